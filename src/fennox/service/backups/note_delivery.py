"""Writing notes about a backup into every store that holds it. An unreachable store gets them
later. A note is saved in the transaction that states it and delivered outside any transaction, so a
hanging store delays nobody.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import timedelta

import structlog
from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy, PendingNote
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import FennoxError
from fennox.core.format.notes import Note
from fennox.core.time import parse_stamp, stamp
from fennox.engine.backups.vault import Vault
from fennox.service.machines.context import Context
from fennox.service.queries.newest_good import among

log: structlog.stdlib.BoundLogger = structlog.get_logger()


async def tell(session: AsyncSession, backup: Backup, note: Note) -> None:
    """State a fact about a backup. :func:`deliver` writes it into the stores once this is
    committed.

    Notes are merged in the order of their dates. So a note is never dated before an earlier one,
    whatever the clock shows. Otherwise a note dated in the future by a wrong clock could not be
    revoked.
    """
    at = parse_stamp(note.time)
    if backup.noted is not None and at <= backup.noted:
        at = backup.noted + timedelta(seconds=1)
    backup.noted = at
    said = note.model_copy(update={"time": stamp(at)})
    stores = select(Copy.store_id).where(Copy.backup_id == backup.id)
    for store in (await session.execute(stores)).scalars().all():
        session.add(PendingNote(store_id=store, backup_id=backup.id, note=said, at=at))
    await session.flush()


async def set_hold(
    context: Context, session: AsyncSession, backup: Backup, reason: str, by: str, *, on: bool
) -> None:
    """Hold or release a backup, in the catalogue and in every store."""
    backup.held, backup.held_because = on, reason if on else ""
    if on:
        backup.expired, backup.expired_at, backup.expired_by = False, None, ""
    said = Note(
        fact="hold" if on else "release",
        backup=backup.id,
        system=backup.system_id,
        time=stamp(context.now()),
        by=by,
        reason=reason,
    )
    await tell(session, backup, said)


@dataclass(frozen=True)
class _Pending:
    id: int
    store: str
    backup: str
    folder: str
    note: Note


async def deliver(context: Context, backups: Collection[str] | None = None) -> None:
    """Write pending notes into the stores, oldest first; of these backups, or of all."""
    async with context.session() as session:
        await _forget_unwanted(session)
        query = select(
            PendingNote.id,
            PendingNote.store_id,
            PendingNote.backup_id,
            System.folder,
            PendingNote.note,
        )
        query = query.join(Backup, Backup.id == PendingNote.backup_id).join(
            System, System.id == Backup.system_id
        )
        if backups is not None:
            query = query.where(among(PendingNote.backup_id, backups))
        rows = (await session.execute(query.order_by(PendingNote.id))).all()
        waiting = [
            _Pending(row.id, row.store_id, row.backup_id, row.folder, row.note) for row in rows
        ]
        stores = select(StoreRow).where(among(StoreRow.id, {pending.store for pending in waiting}))
        doors = [
            await context.stores.door(session, row)
            for row in (await session.execute(stores)).scalars().all()
        ]
    for door in doors:
        mine = [pending for pending in waiting if pending.store == door.store]
        try:
            vault = await context.stores.vault(door)
            for pending in mine:
                await _write(vault, pending)
                async with context.session() as session:
                    await session.execute(delete(PendingNote).where(PendingNote.id == pending.id))
        except FennoxError as error:
            log.warning("a store receives a note later", store=door.name, reason=error.what)


async def _write(vault: Vault, pending: _Pending) -> None:
    record = await vault.find_record(pending.backup, pending.folder)
    await vault.write_note(pending.note, record.reference)


async def _forget_unwanted(session: AsyncSession) -> None:
    """Drop notes whose backup is gone."""
    there = select(Copy.backup_id).where(
        Copy.backup_id == PendingNote.backup_id, Copy.store_id == PendingNote.store_id
    )
    await session.execute(delete(PendingNote).where(~there.exists()))
