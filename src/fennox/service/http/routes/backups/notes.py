"""People's decisions about backups: hold, keep, clear; and removed backups."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit
from fennox.service.backups import note_delivery
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context
from fennox.service.queries.lookups import find_backup
from fennox.service.queries.paging import After, Limit
from fennox.service.retention import expiry
from fennox.service.takes import guard
from fennox.service.views import backups as backup_views
from fennox.wire.backups import BackupShown, ClearWanted, HoldWanted, RemovalShown
from fennox.wire.base import Page

router = api_router("backups")


async def _hold(
    context: Context, request: Request, backup: str, reason: str, by: str, *, on: bool
) -> BackupShown:
    async with context.session() as session:
        row = await find_backup(session, backup)
        await note_delivery.set_hold(context, session, row, reason, by, on=on)
        await audit.note(
            session, request, "hold" if on else "release", "backup", row.id, reason=reason
        )
    return await _delivered(context, row.id)


async def _delivered(context: Context, backup: str) -> BackupShown:
    """Deliver notes about a backup to its stores; an unreachable store gets them later."""
    await note_delivery.deliver(context, [backup])
    async with context.session() as session:
        return await backup_views.one(context, session, backup)


@router.post("/backups/{backup}/hold")
async def hold_backup(
    backup: str, wanted: HoldWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Put a backup on hold, so that no ladder removes it."""
    return await _hold(context, request, backup, wanted.reason, who.name, on=True)


@router.post("/backups/{backup}/clear")
async def clear_backup(
    backup: str, wanted: ClearWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Decide about a doubtful or misdated backup: it is correct and counts again, or it may be
    removed.
    """
    async with context.session() as session:
        row = await find_backup(session, backup)
        await guard.judge(context, session, row, wanted.reason, who.name, good=wanted.good)
        action = "cleared" if wanted.good else "confirmed the doubt about"
        await audit.note(session, request, action, "backup", row.id, reason=wanted.reason)
    return await _delivered(context, row.id)


@router.post("/backups/{backup}/keep")
async def keep_backup(
    backup: str, wanted: HoldWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Keep a backup that is marked for removal, and hold it. Possible until a sweep has removed
    it.
    """
    async with context.session() as session:
        row = await find_backup(session, backup)
        await expiry.keep_on_hold(context, session, row, wanted.reason, who.name)
        await audit.note(session, request, "kept", "backup", row.id, reason=wanted.reason)
    return await _delivered(context, row.id)


@router.get("/removals")
async def list_removals(
    context: Here,
    system: str | None = None,
    store: str | None = None,
    limit: Limit = 50,
    after: After = None,
) -> Page[RemovalShown]:
    """Backups removed by sweeps within a year, newest first."""
    async with context.session() as session:
        return await backup_views.removals(
            session, system=system, store=store, limit=limit, after=after
        )


@router.post("/backups/{backup}/release")
async def release_backup(
    backup: str, wanted: HoldWanted, request: Request, context: Here, who: Who
) -> BackupShown:
    """Release a backup from its hold."""
    return await _hold(context, request, backup, wanted.reason, who.name, on=False)
