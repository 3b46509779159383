"""What people say of backups: held, kept, looked at; and which were removed."""

from __future__ import annotations

from fastapi import APIRouter, Request
from sqlalchemy import or_, select

from fennox.catalogue.models.backups import Backup, Copy, Removal
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.service.access_control import audit
from fennox.service.backups import note_delivery
from fennox.service.http.routes.backups.backup_views import shown
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context, named
from fennox.service.queries.lookups import find_backup
from fennox.service.queries.paging import After, Limit, newest_first
from fennox.service.retention import expiry
from fennox.service.takes import guard
from fennox.wire.backups import (
    BackupShown,
    ClearWanted,
    HoldWanted,
    RemovalShown,
)
from fennox.wire.base import Page

router = APIRouter(tags=["backups"])


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
