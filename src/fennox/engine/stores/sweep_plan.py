"""What a sweep may remove: packs that no record needs and nobody is writing (store-format §11)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from fennox.core.errors import Damaged
from fennox.core.format import packs, records
from fennox.core.format.records import Record
from fennox.core.format.sweeps import Sweep, condemned_packs
from fennox.core.names import ObjectName
from fennox.core.time import parse_stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, read_pack
from fennox.stores.base import FoundObject

GRACE = timedelta(hours=48)


_CLOCKS_APART = timedelta(minutes=10)  # a far side's clock may be ahead by this much


SMALL = 4 * 1024 * 1024  # bytes; many packs below this size are merged


_MANY = 16  # number of small packs that justifies repacking


_HALF = 0.5


@dataclass
class Locked:
    """Removable objects still locked by the far side: their number, and when the first unlocks."""

    objects: int = 0
    until: datetime | None = None

    def add(self, until: datetime) -> None:
        self.objects += 1
        self.until = min(self.until or until, until)


@dataclass
class Plan:
    """What a sweep would do. Sizes in bytes; ``freed`` is freed by deleting now, ``later`` after
    the grace period.
    """

    expired: dict[ObjectName, str] = field(default_factory=dict)  # record → why nothing keeps it
    dead: list[FoundObject] = field(default_factory=list)
    repack: list[FoundObject] = field(default_factory=list)
    withdraw: list[str] = field(default_factory=list)
    delete: list[FoundObject] = field(default_factory=list)
    locked: Locked = field(default_factory=Locked)
    freed: int = 0
    later: int = 0
    kept: int = 0


@dataclass
class _SweepSeen:
    """A complete reading of the store."""

    records: dict[ObjectName, Record]
    gone: dict[ObjectName, str]
    live: dict[ObjectName, set[bytes]]
    packs: dict[ObjectName, FoundObject]


async def plan(
    holding: Holding, expired: Mapping[str, str], now: datetime, journal: Journal
) -> Plan:
    """``expired``: backup → why nothing keeps it any more. Reads every record; an unreadable one is
    an error.
    """
    vault = holding.vault
    await journal.step("Read every record")
    seen = await look(holding, expired, journal)
    lists = await vault.sweep_lists()
    condemned = condemned_packs(lists)
    since = _condemned_since(lists)
    made = Plan(expired=seen.gone)
    needed: dict[ObjectName, set[bytes]] = places(holding, seen, condemned)
    small: list[FoundObject] = []
    for name, found in sorted(seen.packs.items()):
        digest = packs.digest_in_name(name)
        used = needed.get(name, set())
        if digest in condemned:
            if used:
                made.withdraw.append(digest)
            elif now - since[digest] >= GRACE:
                if await free(holding, name, now, made.locked):
                    made.delete.append(found)
                    made.freed += found.size
            else:
                made.later += found.size
            continue
        if not used:
            if not _young(found, now) and await _is_ours(holding, name):
                made.dead.append(found)
                made.later += found.size
            continue
        table = holding.index.packs[name]
        alive = sum(entry.length for entry in table.entries if entry.id in used)
        made.kept += found.size
        if table.generation != vault.header.generation:
            continue  # it is removed once its backups are resealed
        if alive < found.size * _HALF:
            made.repack.append(found)
            made.later += found.size - alive
        elif found.size < SMALL:
            small.append(found)
    if len(small) >= _MANY:
        made.repack += small
    return made


async def free(holding: Holding, name: ObjectName, now: datetime, locked: Locked) -> bool:
    """Whether the far side would delete an object; records it if not."""
    until = await holding.vault.store.locked_until(name)
    if until is None or until <= now:
        return True
    locked.add(until)
    return False


async def _is_ours(holding: Holding, name: ObjectName) -> bool:
    """Whether a pack's table was read or its bytes are provably damaged; other packs are left
    alone.
    """
    if name in holding.index.packs:
        return True
    try:
        await read_pack(holding, name)
    except Damaged:
        return True
    return False


def _young(found: FoundObject, now: datetime) -> bool:
    """A pack a running take may have just written: condemning it would force that take to start
    over.

    If the far side's clock is ahead of ours, this proves nothing: its packs would be young for
    ever.
    """
    return (
        found.modified is not None
        and timedelta(0) <= now - found.modified + _CLOCKS_APART < GRACE / 2
    )


async def look(holding: Holding, expired: Mapping[str, str] | None, journal: Journal) -> _SweepSeen:
    """``expired``: None to count every existing record as needed."""
    vault = holding.vault
    seen = _SweepSeen({}, {}, {}, {})
    for name in await vault.record_names():
        seen.records[name] = await vault.read_record(name)
        await journal.progress(documents=len(seen.records))
    await holding.index.refresh(vault)  # after the records: their packs were stored before them
    if expired is not None:
        seen.gone = _gone(seen.records, expired)
    for name, record in seen.records.items():
        if name not in seen.gone:
            seen.live[name] = await BackupReader(vault, holding.index, record).needed()
            await journal.check()
    async for found in vault.store.list("packs/"):
        if found.name.endswith(".fxp"):
            seen.packs[found.name] = found
    return seen


def _gone(found: Mapping[ObjectName, Record], expired: Mapping[str, str]) -> dict[ObjectName, str]:
    """Records nothing keeps: of expired backups, or resealed under a later generation."""
    newest = {
        r.reference.backup: r.reference.generation
        for r in records.newest_generations(found.values())
    }
    gone = {}
    for name, record in found.items():
        reference = record.reference
        if reference.backup in expired:
            gone[name] = expired[reference.backup]
        elif reference.generation < newest[reference.backup]:
            gone[name] = f"resealed under key generation {newest[reference.backup]}"
    return gone


def places(
    holding: Holding, seen: _SweepSeen, condemned: frozenset[str]
) -> dict[ObjectName, set[bytes]]:
    """For every pack the chunks it is responsible for: sound packs before damaged, kept before
    condemned.
    """
    chosen: dict[ObjectName, set[bytes]] = {}
    for chunk_id in set[bytes]().union(*seen.live.values()):
        places = sorted(
            holding.index.places(chunk_id),
            key=lambda place: (
                place.pack in holding.index.damaged,
                packs.digest_in_name(place.pack) in condemned,
                -len(holding.index.packs[place.pack].entries),
                place.pack,
            ),
        )
        if places:
            chosen.setdefault(places[0].pack, set()).add(chunk_id)
    return chosen


def _condemned_since(lists: list[Sweep]) -> dict[str, datetime]:
    since: dict[str, datetime] = {}
    for sweep in lists:
        for digest in sweep.condemned:
            if sweep.stage == "condemned":
                since.setdefault(digest, parse_stamp(sweep.time))
            elif sweep.stage == "withdrawn":
                since.pop(digest, None)
    return since
