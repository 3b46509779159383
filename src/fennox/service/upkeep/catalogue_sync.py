"""Synchronising the catalogue with a store's actual content."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy, Removal
from fennox.catalogue.models.stores import StoreRow, StoreSpace
from fennox.catalogue.models.systems import System
from fennox.core.format import records
from fennox.core.names import object_name
from fennox.engine.backups.vault import Vault
from fennox.service.machines.context import Context
from fennox.service.queries.newest_good import among
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease

LISTED_FOR = timedelta(days=366)  # removed backups stay listed by name this long


async def follow(context: Context, lease: Lease, vault: Vault, row: StoreRow) -> list[str]:
    """Forget copies no longer in the store that a sweep list explains; a scrub reports other
    losses. Based on the store's content, never on one attempt's memory: if a sweep died between
    store and catalogue, the next one completes it. Returns the ids of removed backups.
    """
    there = {records.short_id(name) for name in await vault.record_names()}
    why = {
        records.short_id(object_name(item.name)): item.why
        for sweep in await vault.sweep_lists(whole=False)
        for item in sweep.removed
        if item.name.endswith(".fxr") and not item.superseded
    }
    async with context.session() as session:
        run = await queue.owned(session, lease)
        held = (
            await session.execute(select(Copy.backup_id).where(Copy.store_id == row.id))
        ).scalars()
        gone = [backup for backup in held if backup[:8] not in there and backup[:8] in why]
        known = select(Backup, System.name).join(System, System.id == Backup.system_id)
        for backup, system in await session.execute(known.where(among(Backup.id, gone))):
            session.add(
                Removal(
                    store_id=row.id,
                    system_id=backup.system_id,
                    system=system,
                    backup_id=backup.id,
                    name=backup.name,
                    time=backup.time,
                    sequence=backup.sequence,
                    size=backup.size,
                    why=why[backup.id[:8]],
                    at=context.now(),
                    run_id=run.id,
                )
            )
        await session.flush()
        await forget(session, row.id, gone)
    return gone


async def forget(session: AsyncSession, store: str, backups: list[str]) -> None:
    """Delete copies in this store, and backups now stored nowhere."""
    await session.execute(
        delete(Copy).where(Copy.store_id == store, among(Copy.backup_id, backups))
    )
    left = select(Copy.backup_id)
    await session.execute(delete(Backup).where(among(Backup.id, backups), Backup.id.not_in(left)))


async def forget_old_removals(session: AsyncSession, now: datetime) -> None:
    await session.execute(delete(Removal).where(Removal.at < now - LISTED_FOR))


async def measured(vault: Vault) -> tuple[int, int, int | None]:
    """Number of objects in a store, bytes used, and bytes free."""
    found = [item.size async for item in vault.store.list("")]
    space = await vault.store.space()
    return len(found), sum(found), space.free if space else None


async def measure(
    session: AsyncSession, store: str, used: tuple[int, int, int | None], now: datetime
) -> None:
    """Record how full a store is (:func:`measured`)."""
    await session.merge(
        StoreSpace(store_id=store, at=now, objects=used[0], used=used[1], free=used[2])
    )
