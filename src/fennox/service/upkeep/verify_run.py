"""Opening backups and reading every document of them, as runs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import FennoxError
from fennox.core.facts.run_orders import (
    VerifyOrder,
    of_kind,
)
from fennox.core.facts.run_results import VerifyResult
from fennox.core.format import packs
from fennox.core.words import first_few
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.record_lists import raise_unless_damage
from fennox.engine.journal import Journal
from fennox.engine.stores.faults import (
    GONE,
    Fault,
    damaged_documents,
    found_damaged,
    in_place_of,
)
from fennox.service.keys.passphrase_relay import wait_for_key
from fennox.service.machines.context import Context
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.upkeep.store_damage import MOST_NAMED, entered, open_damage
from fennox.stores.whole import WholeObjects


async def _keep_verified(
    session: AsyncSession,
    row: StoreRow,
    faults: Mapping[Fault, set[str]],
    whole: Collection[str],
    now: datetime,
) -> None:
    """Enter the damage found by reading backups, as a scrub would, so that the next scrub knows of
    it.

    A backup that was read ``whole`` needs none of it; that a damaged pack is sound again only a
    scrub can tell.
    """
    known = await open_damage(session, row)
    for fault, needed_by in faults.items():
        item = known[fault.object] = known.get(fault.object) or entered(session, row, fault, now)
        item.backups = sorted({*item.backups, *needed_by} - set(whole))
    for item in known.values():
        if not {*item.backups}.isdisjoint(whole):
            item.backups = [backup for backup in item.backups if backup not in whole]
            of_backups = item.object == GONE or item.object.startswith(in_place_of(""))
            if of_backups and not item.backups:
                item.healed, item.how = now, "it was read whole again"


async def run_verify(context: Context, lease: Lease, journal: Journal) -> None:
    """Open backups and hash every document: those that were opened longest ago first."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        order = of_kind(run.order, VerifyOrder)
        row = await session.get_one(StoreRow, run.store_id)
        door = await context.stores.door(session, row)
        there = Copy.__table__.join(Backup).join(System)
        query = select(Backup.id, System.folder).select_from(there).where(Copy.store_id == row.id)
        if run.backup_id:
            query = query.where(Copy.backup_id == run.backup_id)
        else:
            query = query.where(Backup.expired.is_(False))
        longest_ago = query.order_by(func.coalesce(Copy.verified, Copy.since)).limit(order.most)
        wanted = [(backup, folder) for backup, folder in await session.execute(longest_ago)]
    vault = await context.stores.vault(door)
    if vault.locked and order.by_hand:
        vault.unlock(await wait_for_key(context, lease, row, journal))
    index = context.stores.index(row.id)
    await journal.step("Open backups and read every document")
    await index.refresh(vault)
    vault.store = WholeObjects(vault.store, after=0)
    condemned = await vault.condemned()
    bad: dict[str, str] = {}
    faults: dict[Fault, set[str]] = defaultdict(set)
    whole: set[str] = set()
    opened = 0
    for backup, folder in wanted:
        await journal.check()
        reader = None
        try:
            reader = BackupReader(vault, index, await vault.find_record(backup, folder))
            if vault.locked:
                lost = [c for c in await reader.needed() if index.sound_place(c) is None]
                documents = [f"{len(lost)} chunks"] if lost else []
            else:
                documents = await damaged_documents(reader)
                opened += 1
        except FennoxError as error:
            await raise_unless_damage(vault, error)
            documents = [error.what]
        if documents and not await context.stores.still_held(backup, row.id):
            continue  # a sweep removed it meanwhile
        if documents:
            bad[backup] = f"Cannot be read whole: {first_few(documents, MOST_NAMED)}"
            await journal.log("error", f"Backup {backup[:12]}: {bad[backup]}")
            await index.refresh(
                vault
            )  # a folder on which nothing is mounted any more holds no packs, and says so here
            unsaid = [Fault(in_place_of(backup), bad[backup])]
            for fault in await found_damaged(reader, bad[backup]) if reader else unsaid:
                faults[fault].add(backup)
        elif not vault.locked:
            whole.add(backup)
        await journal.progress(documents=opened)
    for pack, what in index.damaged.items():
        if packs.digest_in_name(pack) not in condemned:
            faults[Fault(pack, what)] |= set()
    if vault.locked:
        await journal.log(
            "warning",
            f"{row.name} is kept apart: its backups were held against the packs, not opened.",
        )
    async with context.session() as session:
        run = await queue.owned(session, lease)
        for backup, _ in wanted:
            current = await session.get(Copy, (backup, row.id))
            if current is not None:
                if backup in bad:
                    current.damaged = bad[backup]
                elif backup in whole:  # what was only held against the packs' tables clears nothing
                    current.damaged, current.verified = "", context.now()
        await _keep_verified(session, row, faults, whole, context.now())
        run.documents = opened
        run.result = VerifyResult(backups=len(wanted), opened=opened, damaged_backups=len(bad))
        if bad:
            text = f"{len(bad)} of {len(wanted)} backups in {row.name} cannot be read whole."
            run.reason, run.remedy, run.problem = (
                text,
                "Scrub the store: what another copy holds is healed.",
                "damaged",
            )
        await queue.end(session, run, "failed" if bad else "done", context.now())
