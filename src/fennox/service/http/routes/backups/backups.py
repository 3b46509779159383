"""Backups: taking, looking, exporting, holding."""

from __future__ import annotations

import re
import secrets
from collections.abc import AsyncIterator
from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request
from fastapi.responses import StreamingResponse
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import IS_ACTIVE, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import HandedIn, System
from fennox.core.errors import BadInput, Conflict
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.facts.run_orders import CopyOrder, TakeOrder, VerifyOrder, of_kind
from fennox.core.names import noun
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.inspection.export import export
from fennox.service.access_control import audit
from fennox.service.backups import catalogue_entry, copies
from fennox.service.backups.open_backups import Shelf
from fennox.service.http.routes.backups.backup_views import shown
from fennox.service.http.routes.backups.runs import run_shown
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context, named
from fennox.service.queries.lookups import find_backup
from fennox.service.queries.paging import After, Limit, newest_first
from fennox.service.runs import new_runs
from fennox.service.takes import hand_ins
from fennox.service.upkeep import store_runs
from fennox.wire.backups import (
    BackupShown,
    CopyWanted,
    DocumentShown,
    ExportWanted,
    HandInShown,
    NewTake,
)
from fennox.wire.base import Page
from fennox.wire.runs import RunShown

router = APIRouter(tags=["backups"])

_ID = re.compile(r"[0-9a-f]{6,32}\Z")


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
        kind, _ = context.kinds.kind(system.kind)
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
        kind, _ = context.kinds.kind(system.kind)
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
