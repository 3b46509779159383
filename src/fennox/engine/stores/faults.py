"""Damage in a store: objects, the backups that need them, and their documents."""

from __future__ import annotations

import asyncio
from collections.abc import Collection
from dataclasses import dataclass, field

from fennox.core.errors import FennoxError
from fennox.core.format import records
from fennox.core.format.anchors import Loss, Present
from fennox.core.format.manifest import Document
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.record_lists import raise_unless_damage
from fennox.engine.stores.copy_backup import Holding

GONE = "packs that are gone"
"""What stands in the place of an object's name where chunks are in no pack."""


@dataclass(frozen=True)
class Gap:
    """Numbers of a system's backups absent from the store without a sweep; another store may have
    them.
    """

    system: str
    name: str
    numbers: list[int]

    def __str__(self) -> str:
        shown = ", ".join(str(number) for number in self.numbers[:5])
        return f"{self.name}: number {shown} is not there, and no sweep removed it."


@dataclass(frozen=True)
class Fault:
    """One damaged object."""

    object: str
    what: str


@dataclass
class Report:
    """``lost``: backup → its chunks in no sound pack. ``records``: sound records by backup id."""

    objects: int = 0
    size: int = 0  # bytes read
    foreign: int = 0
    passed_over: int = 0  # packs in other shares
    faults: list[Fault] = field(default_factory=list)
    records: dict[str, records.Record] = field(default_factory=dict)
    # expected backups without a sound record
    missing: list[str] = field(default_factory=list)
    lost: dict[str, set[bytes]] = field(default_factory=dict)
    gaps: list[Gap] = field(default_factory=list)
    # present at the last reading, gone now
    losses: list[Loss] = field(default_factory=list)
    present: dict[str, Present] = field(default_factory=dict)  # by system
    # object with a fault → backups that need it
    costs: dict[str, set[str]] = field(default_factory=dict)

    @property
    def sound(self) -> bool:
        return not self.faults and not self.lost and not self.gaps and not self.losses


def in_place_of(backup: str) -> str:
    """Replaces the object's name if the backup itself is incomplete."""
    return f"backup {backup[:12]}"


async def lost_chunks(holding: Holding, record: records.Record) -> set[bytes]:
    """Chunks a backup needs that are in no sound pack; only the id list if that is unreadable."""
    reader = BackupReader(holding.vault, holding.index, record)
    own = {ref.id_bytes() for ref in record.reference.id_list.chunks}
    try:
        needed = await reader.needed()
    except FennoxError as error:
        await raise_unless_damage(holding.vault, error)
        return {chunk_id for chunk_id in own if holding.index.sound_place(chunk_id) is None} or own
    return {chunk_id for chunk_id in needed if holding.index.sound_place(chunk_id) is None}


def blamed(index: PackIndex, lost: Collection[bytes]) -> list[Fault]:
    """The objects whose damage lost these chunks; packs that disappeared cannot be named."""
    found: dict[str, str] = {}
    for chunk_id in lost:
        places = index.places(chunk_id)
        if not places:
            found[GONE] = "Chunks that backups need are in no pack."
        found |= {
            place.pack: index.damaged[place.pack] for place in places if place.pack in index.damaged
        }
    return [Fault(name, what) for name, what in sorted(found.items())]


async def found_damaged(reader: BackupReader, what: str) -> list[Fault]:
    """The objects that make a backup just read incomplete; ``what``: the errors of that read."""
    backup = reader.record.reference.backup
    try:
        needed = await reader.needed()
    except FennoxError as error:
        await raise_unless_damage(reader.vault, error)
        needed = {ref.id_bytes() for ref in reader.record.reference.id_list.chunks}
    lost = [chunk_id for chunk_id in needed if reader.index.sound_place(chunk_id) is None]
    return blamed(reader.index, lost) or [Fault(in_place_of(backup), what)]


async def damaged_documents(reader: BackupReader) -> list[str]:
    """``part path`` of every document that cannot be read completely. Needs the opening key."""
    damaged = []
    for part in (await reader.head()).parts:
        try:
            async for document in reader.documents(part):
                if document.type in ("file", "output") and not await _whole(reader, document):
                    damaged.append(f"{part.name} {document.path}")
        except FennoxError as error:
            await raise_unless_damage(reader.vault, error)
            damaged.append(f"{part.name} (the rest of its list)")
    return damaged


async def _whole(reader: BackupReader, document: Document) -> bool:
    try:
        async for _ in reader.content(document):
            await asyncio.sleep(0)
    except FennoxError as error:
        await raise_unless_damage(reader.vault, error)
        return False
    return True
