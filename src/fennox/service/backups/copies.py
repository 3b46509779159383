"""Copies of a backup: the stores that hold it, best first."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import FennoxError, NotFound
from fennox.core.format.records import Record
from fennox.engine.backups.vault import Vault
from fennox.service.machines.context import Context


async def copies_of(session: AsyncSession, backup: str) -> list[StoreRow]:
    """The stores that hold a backup, those without known damage first."""
    query = select(StoreRow).join(Copy).where(Copy.backup_id == backup)
    return list((await session.execute(query.order_by(Copy.damaged != "", Copy.since))).scalars())


async def best_copy(context: Context, backup: Backup) -> tuple[StoreRow, Vault, Record]:
    """The backup's record in the first reachable store without known damage to it."""
    async with context.session() as session:
        places = [
            (row, await context.stores.door(session, row))
            for row in await copies_of(session, backup.id)
        ]
        folder = (await session.get_one(System, backup.system_id)).folder
    first: FennoxError | None = None
    for row, door in places:
        try:
            vault = await context.stores.vault(door)
            return row, vault, await vault.find_record(backup.id, folder)
        except FennoxError as error:
            first = first or error
    raise first or NotFound(
        f"No store holds the backup {backup.id[:12]} any more.", "Choose another backup."
    )
