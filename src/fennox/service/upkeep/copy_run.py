"""Copies of backups in further stores, as runs."""

from __future__ import annotations

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import NotFound
from fennox.core.facts.run_results import CopyResult
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, copy, shares_keys
from fennox.service.backups.copies import copies_of
from fennox.service.keys.passphrase_relay import wait_for_key
from fennox.service.machines.context import Context
from fennox.service.machines.doors import Door
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease


async def holding(context: Context, door: Door) -> Holding:
    return Holding(await context.stores.vault(door), context.stores.index(door.store))


async def run_copy(context: Context, lease: Lease, journal: Journal) -> None:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        target_row = await session.get_one(StoreRow, run.store_id)
        backup = await session.get(Backup, run.backup_id or "")
        if backup is None:
            raise NotFound("The backup is no longer in the catalogue.", "There is nothing to copy.")
        sources = [row for row in await copies_of(session, backup.id) if row.id != target_row.id]
        if not sources:
            raise NotFound(f"No other store holds {backup.id[:12]}.", "Nothing can be copied.")
        source_row = sources[0]
        doors = [await context.stores.door(session, row) for row in (source_row, target_row)]
        folder = (await session.get_one(System, backup.system_id)).folder
    source, target = [await holding(context, door) for door in doors]
    record = await source.vault.find_record(backup.id, folder)
    shared = shares_keys(source.vault, target.vault, record.reference.generation)
    if source.vault.locked and not shared:
        source.vault.unlock(await wait_for_key(context, lease, source_row, journal))
    copied = await copy(source, target, record, journal)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        await session.merge(
            Copy(
                backup_id=backup.id,
                store_id=target_row.id,
                since=context.now(),
                digest=copied.digest,
                damaged="",
            )
        )
        run.size = copied.written.bytes
        run.result = CopyResult(
            backup=backup.id,
            source=source_row.name,
            target=target_row.name,
            objects=copied.written.objects,
            new_bytes=copied.written.bytes,
            sealed_anew=copied.anew,
        )
        await queue.end(session, run, "done", context.now())
