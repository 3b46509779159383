"""What exactly changed between two backups."""

from __future__ import annotations

import secrets

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.systems import Login, System
from fennox.core.compare.patching import as_patch
from fennox.core.compare.value_search import Question
from fennox.core.errors import BadInput, FennoxError, NotFound, PassphraseNeeded
from fennox.core.kinds.filling import for_system
from fennox.engine.inspection.backup_comparison import compare, live_side, side_of
from fennox.engine.inspection.value_trace import Trace
from fennox.service.access_control import audit
from fennox.service.backups.open_backups import Shelf
from fennox.service.http import access
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.people.persons import Person
from fennox.service.queries.lookups import find_backup
from fennox.wire.comparing import (
    Compared,
    ComparedBackup,
    CompareWanted,
    StandingShown,
    Traced,
    TraceWanted,
)

router = APIRouter(tags=["backups"])


class Patch(JSONResponse):
    media_type = "application/json-patch+json"


@router.post("/comparisons")
async def compare_backups(
    wanted: CompareWanted, request: Request, context: Here, who: Who
) -> Compared:
    """Compare two backups, the newest of a system with the one that stood at a time, or one with
    the live system.

    The live system is read while the caller waits; nothing of it is kept.
    """
    return await _compared(context, wanted, request, who, patches=False)


@router.post("/comparisons/patch", response_class=Patch)
async def compare_as_patch(
    wanted: CompareWanted, request: Request, context: Here, who: Who
) -> Patch:
    """The same as one JSON Patch (RFC 6902) on an object part → document → attributes and
    content.
    """
    return Patch(
        as_patch((await _compared(context, wanted, request, who, patches=True)).comparison)
    )


async def _compared(
    context: Context, wanted: CompareWanted, request: Request, who: Person, *, patches: bool
) -> Compared:
    async with context.session() as session:
        before, after = await _chosen(session, wanted)
        told = [await _told(session, row) for row in (before, after) if row is not None]
        system = await session.get_one(System, before.system_id)
        access.may_see(who, system.kind)
        other = "the live system" if after is None else after.id[:12]
        await audit.note(
            session, request, "compared", "system", system.name, before=before.id[:12], after=other
        )
        login = await session.get_one(Login, system.login_id) if system.login_id else None
    kind = for_system(context.kinds.kind(before.kind)[0], dict(system.settings))
    phrase = wanted.passphrase.get_secret_value() if wanted.passphrase else None
    shelf = Shelf(context, phrase)
    left = await side_of(await shelf.reader(before))
    if after is not None:
        right = await side_of(await shelf.reader(after))
    else:
        link = await context.machines.connect(
            kind, login_uses.of_system(system, login), way_to(system)
        )
        try:
            known = system.machine.id if system.machine else left.machine
            right = await live_side(
                kind, link, dict(system.settings), left, known, context.readings
            )
        finally:
            await link.close()
        told.append(ComparedBackup(id="", system=system.name, name="", time=context.now()))
    comparison = await compare(
        kind,
        left,
        right,
        secrets.token_bytes(16),
        context.evaluators,
        patches=patches,
        only=wanted.only,
    )
    return Compared(before=told[0], after=told[1], comparison=comparison)


async def _chosen(session: AsyncSession, wanted: CompareWanted) -> tuple[Backup, Backup | None]:
    """Before and after; no after is the live system."""
    if wanted.before is not None:
        after = await find_backup(session, wanted.after) if wanted.after is not None else None
        return await find_backup(session, wanted.before), after
    assert wanted.system is not None
    system = await named(session, System, wanted.system)
    ours = select(Backup).where(Backup.system_id == system.id, Backup.purpose == constant("backup"))
    needed = 1 if wanted.live or wanted.since else 2
    newest = list((await session.execute(ours.order_by(Backup.sequence.desc()).limit(2))).scalars())
    if len(newest) < needed:
        less = "one is" if needed == 1 else "two are"
        raise BadInput(
            f"{system.name} has {len(newest)} backups; {less} needed to compare.",
            "Take another one.",
        )
    if wanted.since is None:
        return (newest[0], None) if wanted.live else (newest[1], newest[0])
    standing = ours.where(Backup.time <= wanted.since).order_by(Backup.sequence.desc()).limit(1)
    before = (await session.execute(standing)).scalar_one_or_none()
    if before is None:
        raise BadInput(
            f"No backup of {system.name} is as old as that.",
            "`fennox backup list` shows what there is.",
        )
    return before, None if wanted.live else newest[0]


async def _told(session: AsyncSession, row: Backup) -> ComparedBackup:
    system = await session.get_one(System, row.system_id)
    return ComparedBackup(id=row.id, system=system.name, name=row.name, time=row.time)


@router.post("/traces")
async def trace_value(wanted: TraceWanted, request: Request, context: Here, who: Who) -> Traced:
    """Follow a document, a value in it, or a census list through all backups of a system."""
    question = Question(wanted.document, wanted.jsonpath, wanted.line, wanted.list)
    question.check()
    async with context.session() as session:
        system = await named(session, System, wanted.system)
        access.may_see(who, system.kind)
        await audit.note(
            session,
            request,
            "traced",
            "system",
            system.name,
            what=wanted.document or str(wanted.list),
        )
        ours = select(Backup).where(
            Backup.system_id == system.id, Backup.purpose == constant("backup")
        )
        rows = list((await session.execute(ours.order_by(Backup.sequence))).scalars())
        told = {
            row.id: ComparedBackup(id=row.id, system=system.name, name=row.name, time=row.time)
            for row in rows
        }
    if not rows:
        raise BadInput(f"{system.name} has no backups.", "Take one.")
    kind = for_system(context.kinds.kind(system.kind)[0], dict(system.settings))
    shelf = Shelf(context, wanted.passphrase.get_secret_value() if wanted.passphrase else None)
    trace = Trace(kind, question, secrets.token_bytes(16), context.evaluators)
    unread = []
    for row in rows:
        try:
            await trace.look(await shelf.reader(row))
        except PassphraseNeeded:
            raise
        except FennoxError as error:
            unread.append(f"{row.id[:12]}: {error.what}")
    standings = [
        StandingShown(
            first=told[standing.first],
            last=told[standing.last],
            there=standing.there,
            values=standing.values,
            said=standing.said,
            change=standing.change,
        )
        for standing in trace.standings
    ]
    if not any(standing.there for standing in standings):
        raise NotFound(
            f"No backup of {system.name} holds {wanted.document or wanted.list}.",
            "`fennox backup show BACKUP --documents` lists what one holds.",
        )
    return Traced(system=system.name, looked_at=trace.looked_at, unread=unread, standings=standings)
