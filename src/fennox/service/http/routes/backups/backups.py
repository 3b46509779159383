"""Backups: taking, listing, exporting, copying."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import Header, Query, Request
from fastapi.responses import StreamingResponse

from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput
from fennox.core.facts.run_orders import TakeOrder, VerifyOrder, of_kind
from fennox.engine.inspection.export import export
from fennox.service.access_control import audit
from fennox.service.backups import catalogue_entry, copies
from fennox.service.backups.open_backups import reader_of
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import named
from fennox.service.queries.lookups import find_backup
from fennox.service.queries.paging import After, Limit
from fennox.service.takes import hand_ins
from fennox.service.takes.start_take import start_take
from fennox.service.upkeep import store_runs
from fennox.service.views import backups as backup_views
from fennox.service.views import runs as run_views
from fennox.service.views import systems as system_views
from fennox.wire.backups import (
    BackupShown,
    CopyWanted,
    DocumentShown,
    ExportWanted,
    HandInShown,
    NewTake,
)
from fennox.wire.base import Page
from fennox.wire.watch.runs import RunShown

router = api_router("backups")


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
        return await backup_views.page(
            context, session, system=system, expired=expired, limit=limit, after=after
        )


@router.post("/backups", status_code=202)
async def take_backup(
    wanted: NewTake,
    request: Request,
    context: Here,
    who: Who,
    idempotency_key: str | None = Header(default=None),
) -> RunShown:
    """Start a take. Returns its run; follow it for the backup."""
    async with context.session() as session:
        made = await start_take(context, session, wanted, who.name, idempotency_key)
        await audit.note(
            session,
            request,
            "started a take",
            "system",
            made.system,
            store=made.store,
            run=made.run.id,
        )
        return await run_views.fresh(context, session, made.run)


@router.get("/systems/{name}/hand-ins")
async def list_hand_ins(name: str, context: Here) -> Page[HandInShown]:
    """Documents that people export and hand in for a system, and when they are due."""
    async with context.session() as session:
        system = await named(session, System, name)
        return await system_views.hand_ins_of(context, session, system)


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
    """Hand in a document that a person exported; the body is its content. Returns the run that
    takes it.
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
        place = await catalogue_entry.store_for(session, store)
        run = await hand_ins.hand_in(
            context, session, system, place, bytes(content), document, who.name, note
        )
        handed_in = of_kind(run.order, TakeOrder).handed_in or ""
        await audit.note(session, request, "handed in", "system", system.name, document=handed_in)
        return await run_views.fresh(context, session, run)


@router.get("/backups/{backup}")
async def show_backup(backup: str, context: Here) -> BackupShown:
    """One backup, by id, a prefix of its id, or its name."""
    async with context.session() as session:
        return await backup_views.one(context, session, backup)


@router.post("/backups/{backup}/copy", status_code=202)
async def copy_backup(
    backup: str, wanted: CopyWanted, request: Request, context: Here, who: Who
) -> RunShown:
    """Copy a backup to another store."""
    async with context.session() as session:
        row = await find_backup(session, backup)
        store = await named(session, StoreRow, wanted.store)
        run = await store_runs.enqueue_copy(context, session, row, store, who.name)
        await audit.note(session, request, "copied", "backup", row.id, store=store.name)
        return await run_views.fresh(context, session, run)


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
        return await run_views.fresh(context, session, run)


@router.get("/backups/{backup}/documents")
async def list_documents(
    backup: str, context: Here, part: str | None = None
) -> Page[DocumentShown]:
    """The documents in a backup, without content; only in custody kept."""
    reader = await reader_of(context, backup, None)
    return Page(items=await backup_views.documents(reader, part))


@router.post("/backups/{backup}/export", response_class=StreamingResponse)
async def export_backup(
    backup: str, wanted: ExportWanted, request: Request, context: Here
) -> StreamingResponse:
    """The backup as an archive. It is not encrypted: protect it."""
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
    # so that damage at the beginning is an error instead of a truncated file
    first = await anext(stream)

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
