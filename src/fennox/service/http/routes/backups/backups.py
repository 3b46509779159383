"""Backups: taking, looking, exporting, holding."""

from __future__ import annotations

import re
import secrets
from collections import defaultdict
from collections.abc import AsyncIterator
from datetime import datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request
from fastapi.responses import StreamingResponse
from sqlalchemy import or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy, PendingNote, Removal
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import HandedIn, System
from fennox.core.errors import BadInput, Conflict
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.evidence.usefulness import worth
from fennox.core.facts.run_orders import CopyOrder, TakeOrder, VerifyOrder, of_kind
from fennox.core.kinds.model import Kind
from fennox.core.names import noun
from fennox.core.restoring import proving
from fennox.core.retention import ladder
from fennox.core.retention.ladder import Reason
from fennox.core.schedule import moments
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.inspection.export import export
from fennox.service.access_control import audit
from fennox.service.backups import catalogue_entry, copies, note_delivery
from fennox.service.backups.open_backups import Shelf
from fennox.service.http.routes.backups.runs import run_shown
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context, named
from fennox.service.queries import selectors
from fennox.service.queries.lookups import find_backup
from fennox.service.queries.newest_good import among
from fennox.service.queries.paging import After, Limit, newest_first
from fennox.service.retention import expiry, routines
from fennox.service.runs import new_runs
from fennox.service.takes import guard, hand_ins
from fennox.service.upkeep import store_runs
from fennox.wire.backups import (
    BackupShown,
    ClearWanted,
    CopyShown,
    CopyWanted,
    DocumentShown,
    ExportWanted,
    HandInShown,
    HoldWanted,
    NewTake,
    RemovalShown,
)
from fennox.wire.base import Page
from fennox.wire.runs import RunShown

router = APIRouter(tags=["backups"])

_ID = re.compile(r"[0-9a-f]{6,32}\Z")


async def shown(context: Context, session: AsyncSession, rows: list[Backup]) -> list[BackupShown]:
    of = sorted({row.system_id for row in rows})
    systems = {
        row.id: row
        for row in (await session.execute(select(System).where(among(System.id, of)))).scalars()
    }
    stores = {row.id: row for row in (await session.execute(select(StoreRow))).scalars()}
    all_routines = list((await session.execute(select(Routine))).scalars())
    names = {routine.id: routine.name for routine in all_routines}
    custody = {keys.id: keys for keys in (await session.execute(select(KeySet))).scalars()}
    untold: dict[tuple[str, str], list[str]] = defaultdict(list)
    pending_notes = select(PendingNote).where(
        among(PendingNote.backup_id, [row.id for row in rows])
    )
    for pending in (await session.execute(pending_notes.order_by(PendingNote.id))).scalars():
        untold[pending.backup_id, pending.store_id].append(pending.note.fact)
    copies: dict[str, list[CopyShown]] = defaultdict(list)
    for copy in (
        await session.execute(select(Copy).where(among(Copy.backup_id, [row.id for row in rows])))
    ).scalars():
        store = stores[copy.store_id]
        keys = custody[store.key_set]
        copies[copy.backup_id].append(
            CopyShown(
                store=store.name,
                since=copy.since,
                verified=copy.verified,
                damaged=copy.damaged,
                untold=untold[copy.backup_id, copy.store_id],
                key_set=keys.name,
                opened_by=(
                    "the service or the passphrase"
                    if keys.custody == "kept"
                    else "the passphrase alone"
                ),
            )
        )
    kept: dict[str, list[Reason]] = {}
    # older ones have no say in what keeps these, unless dates and order contradict each other
    disordered = any(system.disordered for system in systems.values())
    since = None if disordered else min((row.time for row in rows), default=None)
    standing = await routines.backups_of(session, of, expired=False, since=since)
    for system_id, its in standing.items():
        mine = [
            routine
            for routine in all_routines
            if selectors.selects(routine.systems, systems[system_id])
        ]
        kept |= routines.what_keeps(systems[system_id], its, mine, context.now())
    for places in copies.values():
        places.sort(key=lambda place: place.store)
    return [
        _shown(
            row,
            systems[row.system_id].name,
            copies[row.id],
            names,
            kept.get(row.id, []),
            context.installed(row.kind),
            context.now(),
        )
        for row in rows
    ]


def _worth(kind: Kind | None, row: Backup) -> list[str]:
    if kind is None:
        return [
            f"This service does not know the kind {row.kind}; add it to be told what the backup is"
            " good for."
        ]
    return worth(kind, [part.name for part in row.parts], row.findings, list(row.left_out))


def _shown(
    row: Backup,
    system: str,
    copies: list[CopyShown],
    routine_names: dict[str, str],
    kept_by: list[Reason],
    kind: Kind | None,
    now: datetime,
) -> BackupShown:
    parts = [part.name for part in row.parts]
    uncounted = set(proving.covered_lists(kind, parts)[1]) if kind is not None else set()
    return BackupShown(
        id=row.id,
        system=system,
        system_id=row.system_id,
        kind=row.kind,
        name=row.name,
        note=row.note,
        purpose=row.purpose,
        time=row.time,
        sequence=row.sequence,
        stores=[place.store for place in copies],
        copies=copies,
        damaged=bool(copies) and all(place.damaged for place in copies),
        routine=routine_names.get(row.routine_id or ""),
        run=row.run_id,
        documents=row.documents,
        bytes=row.size,
        new_bytes=row.new_bytes,
        unchanged=row.unchanged,
        partial=row.partial,
        parts=row.parts,
        machine=row.machine,
        census={name: len(values) for name, values in row.census.items() if name not in uncounted},
        not_counted=sorted(uncounted & row.census.keys()),
        findings=row.findings,
        left_out=row.left_out,
        worth=_worth(kind, row),
        held=row.held,
        held_because=row.held_because,
        doubtful=row.doubtful,
        doubtful_because=row.doubtful_because,
        expired=row.expired,
        expired_at=row.expired_at,
        misdated=row.misdated,
        future=moments.is_future(row.time, now),
        kept_by=[ladder.in_words(reason) for reason in kept_by],
    )


@router.get("/backups")
async def list_backups(
    context: Here,
    system: str | None = None,
    limit: Limit = 50,
    after: After = None,
    expired: bool = True,
) -> Page[BackupShown]:
    """Backups, newest first; of one system if given."""
    async with context.session() as session:
        query = select(Backup)
        if system is not None:
            query = query.where(Backup.system_id == (await named(session, System, system)).id)
        if not expired:
            query = query.where(Backup.expired.is_(False))
        rows, cursor = await newest_first(
            session, query, [Backup.time, Backup.sequence, Backup.id], limit, after
        )
        return Page(items=await shown(context, session, rows), after=cursor)


@router.post("/backups", status_code=202)
async def take_backup(
    wanted: NewTake,
    request: Request,
    context: Here,
    who: Who,
    idempotency_key: str | None = Header(default=None),
) -> RunShown:
    """Start a take. The answer is its run; follow it for the backup."""
    if wanted.name:
        noun(wanted.name)
    async with context.session() as session:
        system = await named(session, System, wanted.system)
        kind, _ = context.kind(system.kind)
        parts_to_take(kind, wanted.parts)
        key = f"{who.name}:{idempotency_key}" if idempotency_key else None
        if wanted.name:
            await _must_be_free(session, system, wanted.name, key)
        stores = list((await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars())
        store = (
            await named(session, StoreRow, wanted.store)
            if wanted.store
            else catalogue_entry.check_store_given(stores)
        )
        run = await new_runs.enqueue(
            session,
            TakeOrder(
                name=wanted.name, note=wanted.note, parts=wanted.parts, hold=wanted.hold or None
            ),
            new_runs.About(system_id=system.id, store_id=store.id, backup_id=secrets.token_hex(16)),
            by=who.name,
            now=context.now(),
            idempotency_key=key,
            wait=wanted.wait,
        )
        await audit.note(
            session, request, "started a take", "system", system.name, store=store.name, run=run.id
        )
        await session.refresh(run)
        return await run_shown(context, session, run)


async def _must_be_free(
    session: AsyncSession, system: System, name: str, idempotency_key: str | None
) -> None:
    """A name fits one backup of a system, or it could not be asked for by it. The same take, asked
    again, is one.
    """
    if idempotency_key is not None:
        same = select(Run.id).where(Run.idempotency_key == idempotency_key)
        if (await session.execute(same)).first() is not None:
            return
    held = select(Backup.id).where(Backup.system_id == system.id, Backup.name == name)
    coming = select(Run.backup_id).where(
        IS_ACTIVE, Run.system_id == system.id, Run.order["name"].astext == name
    )
    for query in (held, coming):
        if (other := (await session.execute(query.limit(1))).scalar_one_or_none()) is not None:
            raise Conflict(
                f"{system.name} has a backup {name} already ({other[:12]}).",
                "Choose another name.",
                field="name",
            )


@router.get("/systems/{name}/hand-ins")
async def list_hand_ins(name: str, context: Here) -> Page[HandInShown]:
    """What people export and hand in for a system, and when it is due."""
    async with context.session() as session:
        system = await named(session, System, name)
        kind, _ = context.kind(system.kind)
        rows = (
            await session.execute(select(HandedIn).where(HandedIn.system_id == system.id))
        ).scalars()
        known = {row.document: row for row in rows if row.backup_id is not None}
    found = []
    for part, source, hand in kind.hand_ins():
        row = known.get(str(source.document))
        found.append(
            HandInShown(
                document=str(source.document),
                part=part.name,
                title=part.title,
                how=hand.how,
                every=hand.every,
                handed_in=row.at if row else None,
                by=row.by if row else "",
                backup=row.backup_id if row else None,
                due=row.at + timedelta(days=hand.every) if row else None,
            )
        )
    return Page(items=found)


@router.post("/systems/{name}/hand-ins", status_code=202)
async def hand_in(
    name: str,
    request: Request,
    context: Here,
    who: Who,
    document: str | None = None,
    store: str | None = None,
    note: Annotated[str, Query(max_length=500)] = "",
) -> RunShown:
    """Hand in a document that a person exported; the body is its content. The answer is the run
    that takes it.
    """
    content = bytearray()
    async for block in request.stream():
        content += block
        if len(content) > hand_ins.LONGEST:
            raise BadInput(
                f"The file has more than {hand_ins.LONGEST} bytes.",
                "Leave out what is no configuration.",
            )
    async with context.session() as session:
        system = await named(session, System, name)
        stores = list((await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars())
        place = (
            await named(session, StoreRow, store)
            if store
            else catalogue_entry.check_store_given(stores)
        )
        run = await hand_ins.hand_in(
            context, session, system, place, bytes(content), document, who.name, note
        )
        handed_in = of_kind(run.order, TakeOrder).handed_in or ""
        await audit.note(session, request, "handed in", "system", system.name, document=handed_in)
        await session.refresh(run)
        return await run_shown(context, session, run)


@router.get("/backups/{backup}")
async def show_backup(backup: str, context: Here) -> BackupShown:
    """One backup, by id, the beginning of its id, or its name."""
    async with context.session() as session:
        return (await shown(context, session, [await find_backup(session, backup)]))[0]


async def reader_of(context: Context, backup: str, passphrase: str | None) -> BackupReader:
    """A reader of a backup's best copy."""
    async with context.session() as session:
        row = await find_backup(session, backup)
    return await Shelf(context, passphrase).reader(row)


@router.post("/backups/{backup}/copy", status_code=202)
async def copy_backup(
    backup: str, wanted: CopyWanted, request: Request, context: Here, who: Who
) -> RunShown:
    """Send a backup to a further store."""
    async with context.session() as session:
        row = await find_backup(session, backup)
        store = await named(session, StoreRow, wanted.store)
        if await session.get(Copy, (row.id, store.id)) is not None:
            raise Conflict(f"{store.name} holds this backup already.", "Nothing is to be done.")
        run = await store_runs.enqueue_for_store(
            context, session, CopyOrder(backup=row.id), store, who.name
        )
        await audit.note(session, request, "copied", "backup", row.id, store=store.name)
        await session.refresh(run)
        return await run_shown(context, session, run)


@router.post("/backups/{backup}/verify", status_code=202)
async def verify_backup(
    backup: str, request: Request, context: Here, who: Who, store: str | None = None
) -> RunShown:
    """Open a backup and hash every document of it; in custody apart the run asks for the
    passphrase.
    """
    async with context.session() as session:
        row = await find_backup(session, backup)
        places = await copies.copies_of(session, row.id)
        place = await named(session, StoreRow, store) if store else places[0]
        run = await store_runs.enqueue_for_store(
            context, session, VerifyOrder(backup=row.id, by_hand=True), place, who.name
        )
        await session.refresh(run)
        return await run_shown(context, session, run)


@router.get("/backups/{backup}/documents")
async def list_documents(
    backup: str, context: Here, part: str | None = None
) -> Page[DocumentShown]:
    """What a backup holds, without any content; only in custody kept."""
    reader = await reader_of(context, backup, None)
    found = []
    for held in (await reader.head()).parts:
        if part is None or held.name == part:
            async for document in reader.documents(held):
                found.append(
                    DocumentShown(
                        part=held.name,
                        path=document.path,
                        type=document.type,
                        size=document.size,
                        mode=document.mode,
                        owner=document.owner,
                        modified=document.modified,
                        secret=document.secret,
                    )
                )
    return Page(items=found)


@router.post("/backups/{backup}/export", response_class=StreamingResponse)
async def export_backup(
    backup: str, wanted: ExportWanted, request: Request, context: Here
) -> StreamingResponse:
    """The backup as an archive. It is not encrypted: who asks for it takes care of it."""
    passphrase = wanted.passphrase.get_secret_value() if wanted.passphrase else None
    reader = await reader_of(context, backup, passphrase)
    reference = reader.record.reference
    for part in wanted.parts or []:
        await reader.part(part)
    async with context.session() as session:
        await audit.note(
            session, request, "exported", "backup", reference.backup, system=reference.system_name
        )
    stream = export(reader, wanted.format, wanted.parts)
    first = await anext(stream)  # so that damage at the beginning is an error, and not a cut file

    async def body() -> AsyncIterator[bytes]:
        yield first
        async for block in stream:
            yield block

    name = f"{reference.system_name}.{reference.time}.{wanted.format}"
    return StreamingResponse(
        body(),
        media_type="application/octet-stream",
        headers={"content-disposition": f'attachment; filename="{name}"'},
    )


async def _hold(
    context: Context, request: Request, backup: str, reason: str, by: str, *, on: bool
) -> BackupShown:
    async with context.session() as session:
        row = await find_backup(session, backup)
        await note_delivery.set_hold(context, session, row, reason, by, on=on)
        await audit.note(
            session, request, "hold" if on else "release", "backup", row.id, reason=reason
        )
    return await _told(context, row.id)


async def _told(context: Context, backup: str) -> BackupShown:
    """What was said of a backup is delivered to the stores; one that is away is told later."""
    await note_delivery.deliver(context, [backup])
    async with context.session() as session:
        return (await shown(context, session, [await session.get_one(Backup, backup)]))[0]


@router.post("/backups/{backup}/hold")
async def hold_backup(
    backup: str, wanted: HoldWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Put a backup on hold: no ladder removes it."""
    return await _hold(context, request, backup, wanted.reason, who.name, on=True)


@router.post("/backups/{backup}/clear")
async def clear_backup(
    backup: str, wanted: ClearWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Say of a doubtful or misdated backup that it is as it should be, and counts again; or that it
    may go.
    """
    async with context.session() as session:
        row = await find_backup(session, backup)
        if not row.doubtful and not row.misdated:
            raise Conflict("Nobody doubts this backup.", "Nothing is to be done.")
        if wanted.good:
            row.misdated = False
            await guard.say(context, session, row, "cleared", wanted.reason, who.name)
        else:
            reason = f"confirmed to be bad: {wanted.reason}"
            await expiry.mark(session, row, context.now(), who.name, reason)
        action = "cleared" if wanted.good else "confirmed the doubt about"
        await audit.note(session, request, action, "backup", row.id, reason=wanted.reason)
    return await _told(context, row.id)


@router.post("/backups/{backup}/keep")
async def keep_backup(
    backup: str, wanted: HoldWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Take back that a backup may go, and hold it. Possible until a sweep has removed it."""
    async with context.session() as session:
        row = await find_backup(session, backup)
        if row.expired or await session.scalar(
            select(Copy.let_go).where(Copy.backup_id == row.id, Copy.let_go)
        ):
            await expiry.unmark(session, row, context.now(), who.name, wanted.reason)
        await note_delivery.set_hold(context, session, row, wanted.reason, who.name, on=True)
        await audit.note(session, request, "kept", "backup", row.id, reason=wanted.reason)
    return await _told(context, row.id)


@router.get("/removals")
async def list_removals(
    context: Here,
    system: str | None = None,
    store: str | None = None,
    limit: Limit = 50,
    after: After = None,
) -> Page[RemovalShown]:
    """Backups that sweeps removed within a year, newest first."""
    async with context.session() as session:
        query = select(Removal)
        if system is not None:
            query = query.where(or_(Removal.system == system, Removal.system_id == system))
        if store is not None:
            query = query.where(Removal.store_id == (await named(session, StoreRow, store)).id)
        rows, cursor = await newest_first(session, query, [Removal.at, Removal.id], limit, after)
        if system is not None and not rows and after is None:
            await named(session, System, system)  # of one that was never there, nothing is said
        stores = {row.id: row.name for row in (await session.execute(select(StoreRow))).scalars()}
        return Page(
            items=[
                RemovalShown(
                    backup=row.backup_id,
                    system=row.system,
                    store=stores[row.store_id],
                    name=row.name,
                    time=row.time,
                    bytes=row.size,
                    why=row.why,
                    removed=row.at,
                    run=row.run_id,
                )
                for row in rows
            ],
            after=cursor,
        )


@router.post("/backups/{backup}/release")
async def release_backup(
    backup: str, wanted: HoldWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Release a backup from its hold."""
    return await _hold(context, request, backup, wanted.reason, who.name, on=False)
