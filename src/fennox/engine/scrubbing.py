"""Looking at every byte of a store: what is damaged, lost, foreign, or older than it should be.

A scrub needs no opening key: packs are held against the digest in their name, everything else against its MAC or seal.
What it finds is told from the object to the backups that need it, and with the opening key to the documents.
"""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from hashlib import sha256

from fennox.core.errors import Damaged, FennoxError, NotFound, StoreUnusable
from fennox.core.format import anchors, notes, packs, records, sweeps
from fennox.core.format import header as headers
from fennox.core.format.anchors import Anchors, Loss, Present, losses
from fennox.core.format.manifest import Document
from fennox.core.names import ObjectName
from fennox.engine.copying import Holding, read_pack
from fennox.engine.index import PackIndex
from fennox.engine.journal import Journal
from fennox.engine.reading import BackupReader
from fennox.engine.vault import (
    README_NAME,
    RESCUE_NAME,
    RESERVE_NAME,
    Vault,
    raise_unless_damage,
    readme,
    rescue_source,
)
from fennox.stores.base import Found

GONE = "packs that are gone"
"""What stands in the place of an object's name where chunks are in no pack."""


@dataclass(frozen=True)
class Gap:
    """Numbers of a system's backups that are not in the store though no sweep removed them; another may have them."""

    system: str
    name: str
    numbers: list[int]

    def __str__(self) -> str:
        shown = ", ".join(str(number) for number in self.numbers[:5])
        return f"{self.name}: number {shown} is not there, and no sweep removed it."


@dataclass(frozen=True)
class Fault:
    """One object that is not what was written."""

    object: str
    what: str


@dataclass
class Report:
    """``lost``: backup → chunks of it that no sound pack holds. ``records``: by backup id, those that are sound."""

    objects: int = 0
    size: int = 0  # bytes read
    foreign: int = 0
    passed_over: int = 0  # packs of other shares
    faults: list[Fault] = field(default_factory=list)
    records: dict[str, records.Record] = field(default_factory=dict)
    missing: list[str] = field(default_factory=list)  # backups that must be there, and have no sound record
    lost: dict[str, set[bytes]] = field(default_factory=dict)
    gaps: list[Gap] = field(default_factory=list)
    losses: list[Loss] = field(default_factory=list)  # what was there when it was last looked at
    present: dict[str, Present] = field(default_factory=dict)  # by system
    costs: dict[str, set[str]] = field(default_factory=dict)  # object with a fault → backups that need it

    @property
    def sound(self) -> bool:
        return not self.faults and not self.lost and not self.gaps and not self.losses


@dataclass(frozen=True)
class Share:
    """A part of the packs, by their digests, so that nothing has to be remembered: the ``number``-th of ``of``."""

    number: int
    of: int

    def holds(self, pack: str) -> bool:
        return int(packs.digest_in_name(pack)[:8], 16) % self.of == self.number

    def reads(self, name: str) -> bool:
        try:
            return self.holds(name)
        except ValueError:
            return True  # no name of ours


ALL = Share(0, 1)


async def scrub(
    holding: Holding,
    expected: Collection[str],
    journal: Journal,
    *,
    share: Share = ALL,
    known: Mapping[str, str] | None = None,
    told: Collection[Anchors] = (),
) -> Report:
    """Read and check every object, then every backup's list of chunks. ``expected``: backups that must be there.

    Of packs only those of the ``share`` are read. ``known``: damage that was found before in the others. ``told``:
    what the store held before, as others tell.
    """
    vault, report = holding.vault, Report()
    await journal.step("List what is there")
    listed = [found async for found in vault.store.list("")]
    names = {found.name for found in listed}
    holding.index.damaged.clear()
    await holding.index.refresh(vault)
    await journal.step("Read and check every object")
    removed: list[sweeps.Sweep] = []
    condemned = await vault.condemned()
    for found in sorted(listed, key=lambda item: item.name):
        await journal.check()
        if found.name.startswith("packs/") and not share.reads(found.name):
            report.passed_over += 1
            if known is not None and found.name in known:
                report.faults.append(Fault(found.name, known[found.name]))
                holding.index.mark_damaged(found.name, known[found.name])
            continue
        try:
            size = await _check(holding, found, report, removed, names)
        except NotFound:
            continue  # removed since the listing; the backups tell whether it is missed
        except (Damaged, StoreUnusable) as error:
            await raise_unless_damage(vault, error)
            # a condemned pack is on its way out: it is no news, but nothing may be read from it
            if packs.digest_in_name(found.name) not in condemned:
                report.faults.append(Fault(found.name, _told(error, found.name)))
            if found.name.startswith("packs/"):
                holding.index.mark_damaged(found.name, error.what)
            size = found.size
        report.objects += 1
        report.size += size
        await journal.progress(documents=report.objects, bytes=report.size)
    for name in (README_NAME, RESCUE_NAME):
        if name not in names:
            report.faults.append(Fault(name, f"{name} is gone."))
    if not any(name.startswith("header/") for name in names):
        report.faults.append(Fault("header/", "Every header is gone."))
    elif headers.name(vault.header) not in names:
        report.faults.append(Fault(headers.name(vault.header), "The newest header is gone."))
    for generation in sorted({record.reference.generation for record in report.records.values()}):
        if not any(name.startswith(f"header/{generation}.") for name in names):
            report.faults.append(
                Fault(f"header/{generation}.", f"Every header of key generation {generation} is gone.")
            )
    report.missing = await _missing(vault, set(expected) - report.records.keys())
    for backup in report.missing:
        report.faults.append(Fault(in_place_of(backup), "Its record is not there, or not sound."))
        report.costs[in_place_of(backup)] = {backup}
    await journal.step("Hold every backup against the packs")
    for backup, record in report.records.items():
        missing = await lost_chunks(holding, record)
        if missing:
            report.lost[backup] = missing
    if report.lost:  # a take that ended meanwhile put its packs after they were listed
        await holding.index.refresh(vault)
        again = {backup: await lost_chunks(holding, report.records[backup]) for backup in report.lost}
        report.lost = {backup: missing for backup, missing in again.items() if missing}
    named = {fault.object for fault in report.faults}
    for backup, missing in report.lost.items():
        for fault in _blamed(holding.index, missing):
            report.costs.setdefault(fault.object, set()).add(backup)
            if fault.object not in named:
                named.add(fault.object)
                report.faults.append(fault)
    report.gaps = _gaps(list(report.records.values()), removed)
    report.losses = _losses(vault, report, told, removed)
    return report


def _losses(vault: Vault, report: Report, told: Collection[Anchors], removed: list[sweeps.Sweep]) -> list[Loss]:
    """The newest of what is told counts; records that were found unsound are no loss but damage."""
    if not told:
        return []
    for record in report.records.values():
        here = report.present.setdefault(record.reference.system, Present())
        here.numbers.add(record.reference.sequence)
        here.records.add(vault.record_name(record.reference))
    newest = max(told, key=lambda one: one.time)
    return losses(newest, report.present, removed, vault.header.generation)


async def _missing(vault: Vault, absent: set[str]) -> list[str]:
    """Of the backups that were not found those that no sweep has removed, as one may have done meanwhile."""
    if not absent:
        return []
    swept = sweeps.swept_backups(await vault.sweep_lists(whole=False))
    return sorted(backup for backup in absent if backup[:8] not in swept)


def _told(error: FennoxError, name: str) -> str:
    """The error without the name, which stands beside it."""
    text = error.what.removeprefix(name).lstrip()
    return text[:1].upper() + text[1:]


async def _check(
    holding: Holding, found: Found, report: Report, removed: list[sweeps.Sweep], names: Collection[str]
) -> int:
    """Check one object; returns the bytes read. Sweep lists come before notes, as names are in order."""
    vault = holding.vault
    name = found.name
    top = name.split("/")[0]
    if top == "packs" and name.endswith(".fxp"):
        data = await read_pack(holding, name)
        secret = vault.secret_of(packs.generation(data))
        length = packs.table_length(data[: packs.FIXED])
        packs.decode_table(data[:length], secret, vault.id, len(data))
        return len(data)
    if found.size > packs.MAX_PACK:
        report.foreign += 1
        return 0
    if top == "systems" and name.endswith(".fxr"):
        record = await vault.read_record(name)
        known = report.records.get(record.reference.backup)
        if known is None or known.reference.generation < record.reference.generation:
            report.records[record.reference.backup] = record
    elif top == "systems" and name.endswith(".fxn"):
        data = await vault.store.get(name)
        note = notes.decode(data, vault.secret_of(notes.generation(data)), vault.id)
        _check_place(name, note, names, removed)
        report.present.setdefault(note.system, Present()).notes[name] = note.written
    elif top == "sweep" and name.endswith(".fxc"):
        data = await vault.store.get(name)
        sweep = sweeps.decode(data, vault.secret_of(sweeps.generation(data)), vault.id)
        removed.append(sweep)
        if not name.startswith(f"sweep/{sweep.time}."):
            raise Damaged(f"{name} holds the list of {sweep.time}.", "Somebody renamed it.")
    elif top == "anchors" and name.endswith(".fxa"):
        data = await vault.store.get(name)
        anchor = anchors.decode(data, vault.secret_of(anchors.generation(data)), vault.id)
        if not name.startswith(f"anchors/{anchor.store[:8]}.{anchor.time}."):
            raise Damaged(f"{name} tells of another store or time.", "Somebody renamed it.")
    elif top == "header" and name.endswith(".json"):
        await _check_header(vault, name)
    elif name == RESERVE_NAME:
        return found.size  # it holds nothing
    elif name == RESCUE_NAME:
        if sha256(await vault.store.get(name)).digest() != sha256(rescue_source()).digest():
            raise Damaged("rescue.py is not the one this version of Fennox writes.", "Do not run it; heal the store.")
    elif name == README_NAME:
        if await vault.store.get(name) != readme(vault.id, vault.header.suite):
            raise Damaged(f"{name} is not the one this version of Fennox writes.", "Heal the store.")
    else:
        report.foreign += 1
        return 0
    return found.size


def _check_place(name: ObjectName, note: notes.Note, names: Collection[str], removed: Collection[sweeps.Sweep]) -> None:
    """A note lies beside its record, or beside one that a sweep has removed (§2.2)."""
    beside = f"{name.rsplit('.', 2)[0]}.fxr"
    if note.backup and note.backup[:8] != records.short_id(name):
        raise Damaged(f"{name} holds a note of another backup.", "Somebody moved it.")
    if beside not in names and beside not in {item.name for sweep in removed for item in sweep.removed}:
        raise Damaged(f"{name} lies beside no record.", "Somebody moved it.")


async def _check_header(vault: Vault, name: ObjectName) -> None:
    data = await vault.store.get(name)
    header = headers.decode(data)
    if headers.name(header) != name:
        raise Damaged(f"{name} does not have the digest in its name.", "Heal it from another copy.")
    header.check_under(vault.secret_of(header.generation))
    if header.store != vault.id:
        raise Damaged(f"{name} is the header of another store.", "Somebody put it there.")


async def lost_chunks(holding: Holding, record: records.Record) -> set[bytes]:
    """Chunks a backup needs that no sound pack holds; its id list alone, if that cannot be read."""
    reader = BackupReader(holding.vault, holding.index, record)
    own = {ref.id_bytes() for ref in record.reference.id_list.chunks}
    try:
        needed = await reader.needed()
    except FennoxError as error:
        await raise_unless_damage(holding.vault, error)
        return {chunk_id for chunk_id in own if holding.index.sound_place(chunk_id) is None} or own
    return {chunk_id for chunk_id in needed if holding.index.sound_place(chunk_id) is None}


def _blamed(index: PackIndex, lost: Collection[bytes]) -> list[Fault]:
    """The objects because of which these chunks are lost; which packs they were that are gone, nobody knows."""
    found: dict[str, str] = {}
    for chunk_id in lost:
        places = index.places(chunk_id)
        if not places:
            found[GONE] = "Chunks that backups need are in no pack."
        found |= {place.pack: index.damaged[place.pack] for place in places if place.pack in index.damaged}
    return [Fault(name, what) for name, what in sorted(found.items())]


async def found_damaged(reader: BackupReader, what: str) -> list[Fault]:
    """The objects because of which a backup that was just read is not whole; ``what``: what reading it told."""
    backup = reader.record.reference.backup
    try:
        needed = await reader.needed()
    except FennoxError as error:
        await raise_unless_damage(reader.vault, error)
        needed = {ref.id_bytes() for ref in reader.record.reference.id_list.chunks}
    lost = [chunk_id for chunk_id in needed if reader.index.sound_place(chunk_id) is None]
    return _blamed(reader.index, lost) or [Fault(in_place_of(backup), what)]


def in_place_of(backup: str) -> str:
    """What stands in the place of an object's name if it is the backup that is not whole."""
    return f"backup {backup[:12]}"


def _gaps(found: list[records.Record], removed: list[sweeps.Sweep]) -> list[Gap]:
    """Sequence numbers of a system that are missing although no sweep removed them (§9.5)."""
    known: dict[str, set[int]] = {}
    names: dict[str, str] = {}
    for record in found:
        reference = record.reference
        known.setdefault(reference.system, set()).add(reference.sequence)
        names[reference.system] = reference.system_name
    for sweep in removed:
        for item in sweep.removed:
            if item.system in known:
                known[item.system].add(item.sequence)
    missing = {system: sorted(set(range(1, max(numbers))) - numbers) for system, numbers in sorted(known.items())}
    return [Gap(system, names[system], numbers) for system, numbers in missing.items() if numbers]


async def damaged_documents(reader: BackupReader) -> list[str]:
    """``part path`` of every document that cannot be read whole. Needs the opening key."""
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
