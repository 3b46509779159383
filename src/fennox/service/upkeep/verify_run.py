"""Verifying backups by reading every document, as runs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
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
from fennox.core.words import counted, first_few
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.record_lists import raise_unless_damage
from fennox.engine.backups.vault import Vault
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
    """Record damage found while reading backups, as a scrub would, so that the next scrub knows it.
    A backup read ``whole`` needs none of it. Only a scrub can show that a damaged pack is sound
    again.
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
    """Open backups and hash every document, least recently verified first."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        order = of_kind(run.order, VerifyOrder)
        row = await session.get_one(StoreRow, run.store_id)
        door = await context.stores.door(session, row)
        wanted = await _to_open(session, row, run.backup_id, order.most)
    vault = await context.stores.vault(door)
    if vault.locked and order.by_hand:
        vault.unlock(await wait_for_key(context, lease, row, journal))
    index = context.stores.index(row.id)
    await journal.step("Open backups and read every document")
    await index.refresh(vault)
    vault.store = WholeObjects(vault.store, after=0)
    condemned = await vault.condemned()
    reading = _Reading(vault, index, journal)
    for backup, folder in wanted:
        await journal.check()
        lost = await reading.lost_of(backup, folder)
        # a sweep may have removed it meanwhile
        if not lost or await context.stores.still_held(backup, row.id):
            await reading.enter(backup, lost)
    for pack, what in index.damaged.items():
        if packs.digest_in_name(pack) not in condemned:
            reading.faults[Fault(pack, what)] |= set()
    if vault.locked:
        await journal.log(
            "warning",
            f"{row.name} is kept apart: its backups were checked against the packs, not opened.",
        )
    await _end(context, lease, row, [backup for backup, _ in wanted], reading)


async def _to_open(
    session: AsyncSession, row: StoreRow, backup: str | None, most: int | None
) -> list[tuple[str, str]]:
    """Backups with the folders of their systems, least recently verified first."""
    there = Copy.__table__.join(Backup).join(System)
    query = select(Backup.id, System.folder).select_from(there).where(Copy.store_id == row.id)
    chosen = Copy.backup_id == backup if backup else Backup.expired.is_(False)
    longest_ago = query.where(chosen).order_by(func.coalesce(Copy.verified, Copy.since))
    rows = await session.execute(longest_ago.limit(most))
    return [(backup_id, folder) for backup_id, folder in rows]


@dataclass
class _Reading:
    """Result of verifying. ``bad``: backup → why it is incomplete; ``whole``: backups read
    completely; ``faults``: damaged objects with the backups that need them.
    """

    vault: Vault
    index: PackIndex
    journal: Journal
    bad: dict[str, str] = field(default_factory=dict)
    faults: dict[Fault, set[str]] = field(default_factory=lambda: defaultdict(set))
    whole: set[str] = field(default_factory=set)
    opened: int = 0
    _reader: BackupReader | None = None

    async def lost_of(self, backup: str, folder: str) -> list[str]:
        """A backup's unreadable documents, or in custody apart a count of chunks."""
        self._reader = None
        try:
            record = await self.vault.find_record(backup, folder)
            self._reader = BackupReader(self.vault, self.index, record)
            if not self.vault.locked:
                documents = await damaged_documents(self._reader)
                self.opened += 1
                return documents
            needed = await self._reader.needed()
        except FennoxError as error:
            await raise_unless_damage(self.vault, error)
            return [error.what]
        lost = sum(self.index.sound_place(chunk) is None for chunk in needed)
        return [counted(lost, "chunk")] if lost else []

    async def enter(self, backup: str, lost: list[str]) -> None:
        if lost:
            why = f"Cannot be read whole: {first_few(lost, MOST_NAMED)}"
            self.bad[backup] = why
            await self.journal.log("error", f"Backup {backup[:12]}: {why}")
            # detects a folder whose mount is gone
            await self.index.refresh(self.vault)
            reader = self._reader
            unread = [Fault(in_place_of(backup), why)]
            for fault in await found_damaged(reader, why) if reader else unread:
                self.faults[fault].add(backup)
        elif not self.vault.locked:
            self.whole.add(backup)
        await self.journal.progress(documents=self.opened)


async def _end(
    context: Context, lease: Lease, row: StoreRow, wanted: list[str], reading: _Reading
) -> None:
    bad = reading.bad
    async with context.session() as session:
        run = await queue.owned(session, lease)
        for backup in wanted:
            copy = await session.get(Copy, (backup, row.id))
            if copy is not None and backup in bad:
                copy.damaged = bad[backup]
            elif copy is not None and backup in reading.whole:
                # a check of pack tables alone does not clear damage
                copy.damaged, copy.verified = "", context.now()
        await _keep_verified(session, row, reading.faults, reading.whole, context.now())
        run.documents = reading.opened
        run.result = VerifyResult(
            backups=len(wanted), opened=reading.opened, damaged_backups=len(bad)
        )
        if bad:
            run.reason = f"{len(bad)} of {len(wanted)} backups in {row.name} cannot be read whole."
            run.remedy = "Scrub the store: what another copy holds is healed."
            run.problem = "damaged"
        await queue.end(session, run, "failed" if bad else "done", context.now())
