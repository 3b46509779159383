"""Giving room back: records that nothing keeps, then packs that no record needs (store-format §11).

A pack is first condemned, which makes every take treat it as absent, and deleted by a later sweep
when the grace is over and all records have been read again. So a take that is going on, a second
worker or a stop at any point never loses anything: what has not been written down as condemned for
long enough is not touched.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Collection, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Literal

from fennox.core.errors import Damaged, FennoxError, StoreUnusable
from fennox.core.format import anchors, notes, packs, records
from fennox.core.format.records import Record
from fennox.core.format.sweeps import RemovedBackup, Sweep, condemned_packs
from fennox.core.names import ObjectName
from fennox.core.time import parse_stamp, stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, read_pack
from fennox.stores.base import FoundObject

Still = Callable[[Collection[str]], Awaitable[set[str]]]

GRACE = timedelta(hours=48)
_CLOCKS_APART = timedelta(minutes=10)  # that a far side's clock may be ahead
SMALL = 4 * 1024 * 1024  # bytes; many packs below this are worth being one
_MANY = 16  # small packs that make repacking worth its requests
_HALF = 0.5


@dataclass
class Locked:
    """What could go, but for the far side's lock: how many objects, and when the first of them
    may.
    """

    objects: int = 0
    until: datetime | None = None

    def add(self, until: datetime) -> None:
        self.objects += 1
        self.until = min(self.until or until, until)


@dataclass
class Plan:
    """What a sweep would do. Sizes in bytes; ``freed`` is what deleting frees now, ``later`` after
    the grace.
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
class Swept:
    """What a sweep did. ``records``: backups that are gone; ``superseded``: records that were
    sealed anew; ``unfinished``: writes of runs that died; ``locked``: what the far side does not
    let go yet.
    """

    records: list[str] = field(default_factory=list)
    superseded: int = 0
    condemned: int = 0
    deleted: int = 0
    freed: int = 0
    later: int = 0
    repacked: int = 0
    unfinished: int = 0
    locked: Locked = field(default_factory=Locked)


@dataclass
class _SweepSeen:
    """A whole look at the store."""

    records: dict[ObjectName, Record]
    gone: dict[ObjectName, str]
    live: dict[ObjectName, set[bytes]]
    packs: dict[ObjectName, FoundObject]


async def plan(
    holding: Holding, expired: Mapping[str, str], now: datetime, journal: Journal
) -> Plan:
    """``expired``: backup → why nothing keeps it any more. Reads every record and stops if one
    cannot be read.
    """
    vault = holding.vault
    await journal.step("Read every record")
    seen = await _look(holding, expired, journal)
    lists = await vault.sweep_lists()
    condemned = condemned_packs(lists)
    since = _condemned_since(lists)
    made = Plan(expired=seen.gone)
    needed: dict[ObjectName, set[bytes]] = _places(holding, seen, condemned)
    small: list[FoundObject] = []
    for name, found in sorted(seen.packs.items()):
        digest = packs.digest_in_name(name)
        used = needed.get(name, set())
        if digest in condemned:
            if used:
                made.withdraw.append(digest)
            elif now - since[digest] >= GRACE:
                if await _free(holding, name, now, made.locked):
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
            continue  # it goes when its backups were sealed anew
        if alive < found.size * _HALF:
            made.repack.append(found)
            made.later += found.size - alive
        elif found.size < SMALL:
            small.append(found)
    if len(small) >= _MANY:
        made.repack += small
    return made


async def _free(holding: Holding, name: ObjectName, now: datetime, locked: Locked) -> bool:
    """Whether the far side would let an object go; if not, that is remembered."""
    until = await holding.vault.store.locked_until(name)
    if until is None or until <= now:
        return True
    locked.add(until)
    return False


async def _is_ours(holding: Holding, name: ObjectName) -> bool:
    """Whether a pack's table was read, or its bytes are provably damaged; any other pack is left
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
    """A pack that a take going on may have just written: condemning it would only make that take
    begin again.

    A far side whose clock goes ahead of ours tells nothing: its packs would be young for ever.
    """
    return (
        found.modified is not None
        and timedelta(0) <= now - found.modified + _CLOCKS_APART < GRACE / 2
    )


async def _look(
    holding: Holding, expired: Mapping[str, str] | None, journal: Journal
) -> _SweepSeen:
    """``expired`` is None where every record that is still there counts, whatever keeps it."""
    vault = holding.vault
    seen = _SweepSeen({}, {}, {}, {})
    for name in await vault.record_names():
        seen.records[name] = await vault.read_record(name)
        await journal.progress(documents=len(seen.records))
    await holding.index.refresh(vault)  # after the records: all that they need was put before them
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
    """Records that nothing keeps: of expired backups, and those that were sealed anew under a later
    generation.
    """
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
            gone[name] = f"sealed anew under key generation {newest[reference.backup]}"
    return gone


def _places(
    holding: Holding, seen: _SweepSeen, condemned: frozenset[str]
) -> dict[ObjectName, set[bytes]]:
    """For every pack the chunks for which it is the one that counts: sound before damaged, kept
    before condemned.
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


async def sweep(
    holding: Holding,
    expired: Mapping[str, str],
    by: str,
    now: datetime,
    journal: Journal,
    still: Still | None = None,
) -> Swept:
    """Carry out what :func:`plan` says. May be stopped anywhere: each step is written down before
    it is done.

    ``still``: asked directly before backups are removed which of them may still go.
    """
    vault, done = holding.vault, Swept()
    if vault.header.sweeper != by:
        raise StoreUnusable(
            f"Another service sweeps {vault.store.address}.",
            "If that service is gone for ever, take its place with `fennox store hand-over`.",
        )
    made = await plan(holding, expired, now, journal)
    if made.withdraw:
        await vault.write_sweep(_list("withdrawn", now, by, made.withdraw))
    await _remove_records(holding, made, expired, by, now, done, journal, still)
    await journal.step("Pack anew what is mostly dead or small")
    replaced = await _repack(holding, made, expired, done, journal)
    doomed = [packs.digest_in_name(found.name) for found in [*made.dead, *replaced]]
    if doomed:
        await journal.check()
        await vault.write_sweep(_list("condemned", now, by, doomed))
    done.condemned, done.later, done.locked = len(doomed), made.later, made.locked
    await _delete_packs(holding, made.delete, by, now, done, journal)
    await _remove_unfinished(holding, now, done, journal)
    await _remove_old_anchors(vault)
    await vault.keep_reserve()
    return done


Dated = Literal["record", "sweep list"]
_DATED: tuple[tuple[Dated, str, str], ...] = (
    ("record", "systems/", ".fxr"),
    ("sweep list", "sweep/", ".fxc"),
)


async def newest_dates(vault: Vault) -> dict[Dated, datetime]:
    """The newest date that a record and a sweep list of a store bear in their names."""
    found: dict[Dated, datetime] = {}
    for what, prefix, ending in _DATED:
        async for item in vault.store.list(prefix):
            if item.name.endswith(ending):
                with suppress(ValueError):  # a name of another form says nothing
                    at = parse_stamp(item.name.rsplit("/", 1)[-1].split(".")[0])
                    found[what] = max(at, found.get(what, at))
    return found


def _list(
    stage: str,
    now: datetime,
    by: str,
    condemned: list[str],
    removed: list[RemovedBackup] | None = None,
) -> Sweep:
    return Sweep.model_validate(
        {
            "stage": stage,
            "time": stamp(now),
            "by": by,
            "condemned": condemned,
            "removed": removed or [],
        }
    )


async def _remove_records(
    holding: Holding,
    made: Plan,
    expired: Mapping[str, str],
    by: str,
    now: datetime,
    done: Swept,
    journal: Journal,
    still: Still | None,
) -> None:
    """First the list that explains the gap, then the record, then its notes."""
    vault = holding.vault
    await journal.step("Remove records that nothing keeps")
    told: list[tuple[ObjectName, Record]] = []
    beside: dict[ObjectName, int] = {}
    for name in made.expired:
        record = await vault.read_record(name)
        said = list((await vault.notes_of(name)).values())
        if record.reference.backup in expired and notes.merge(said).held:
            continue
        if record.reference.backup not in expired and not await _said_of_newest(
            vault, record, said
        ):
            # the run that sealed it anew died before it carried the notes over, and will go on
            continue
        if await _free(holding, name, now, made.locked):
            told.append((name, record))
            beside[name] = len(said)
    if still is not None:
        going = await still([r.reference.backup for _, r in told if r.reference.backup in expired])
        told = [
            (n, r)
            for n, r in told
            if r.reference.backup not in expired or r.reference.backup in going
        ]
    if not told:
        return
    removed = [
        RemovedBackup(
            name=name,
            why=made.expired[name],
            system=r.reference.system,
            sequence=r.reference.sequence,
            superseded=r.reference.backup not in expired,
            notes=beside[name],
        )
        for name, r in told
    ]
    await journal.check()
    await vault.write_sweep(_list("removed", now, by, [], removed))
    for name, record in told:
        await journal.check()
        its_notes = await vault.notes_of(name)
        if await _deleted(holding, name):
            if record.reference.backup in expired:
                done.records.append(record.reference.backup)
            else:
                done.superseded += 1
            for note in its_notes:
                await _deleted(holding, note)


async def _said_of_newest(vault: Vault, record: Record, said: list[notes.Note]) -> bool:
    newest = await vault.find_record(record.reference.backup, record.reference.folder)
    told = list((await vault.notes_of(vault.record_name(newest.reference))).values())
    return all(any(note.says(other) for other in told) for note in said)


async def _repack(
    holding: Holding, made: Plan, expired: Mapping[str, str], done: Swept, journal: Journal
) -> list[FoundObject]:
    """Write the living chunks of such packs into new ones; the old ones are condemned, not
    deleted.
    """
    if not made.repack:
        return []
    vault = holding.vault
    doomed = frozenset(packs.digest_in_name(found.name) for found in made.repack)
    seen = await _look(holding, expired, journal)
    live = set[bytes]().union(*seen.live.values())
    writer = BackupWriter(vault, holding.index, (await vault.condemned()) | doomed)
    replaced = []
    for found in made.repack:
        await journal.check()
        try:
            data = await read_pack(Holding(vault, holding.index), found.name)
        except FennoxError:
            continue  # a damaged pack is the scrub's to heal
        for entry in holding.index.packs[found.name].entries:
            if entry.id in live:
                sealed = data[entry.offset : entry.offset + entry.length]
                await writer.add_sealed(entry.id, sealed, entry.plain_length)
        replaced.append(found)
    await writer.flush()
    await writer.confirm()
    done.repacked = len(replaced)
    return replaced


async def _delete_packs(
    holding: Holding,
    doomed: list[FoundObject],
    by: str,
    now: datetime,
    done: Swept,
    journal: Journal,
) -> None:
    """After the grace, and after all records have been read again: a record may have come
    meanwhile.
    """
    if not doomed:
        return
    await journal.step("Read every record again")
    seen = await _look(holding, None, journal)
    needed = _places(holding, seen, await holding.vault.condemned())
    sure = [found for found in doomed if not needed.get(found.name)]
    await journal.step("Delete packs whose grace is over")
    await journal.check()
    removed = [
        RemovedBackup(name=found.name, why="no record needed it for the grace") for found in sure
    ]
    if removed:
        digests = [packs.digest_in_name(found.name) for found in sure]
        await holding.vault.write_sweep(_list("removed", now, by, digests, removed))
    for found in sure:
        await journal.check()
        if await _deleted(holding, found.name):
            done.deleted += 1
            done.freed += found.size


async def _remove_unfinished(
    holding: Holding, now: datetime, done: Swept, journal: Journal
) -> None:
    """What runs that died had begun to write. One whose age the far side does not tell is left."""
    store = holding.vault.store
    await journal.step("Remove what was never finished")
    for found in await store.unfinished():
        there = found if found.modified is not None else await store.stat(found.name)
        if there is not None and there.modified is not None and now - there.modified >= GRACE:
            await store.delete(found.name)
            done.unfinished += 1
            done.freed += found.size


async def _remove_old_anchors(vault: Vault) -> None:
    """Of each store that is told of here the newest few stay; a date to come is wrong, and so the
    oldest.
    """
    now = stamp(vault.now())
    by_store: dict[str, list[ObjectName]] = {}
    async for found in vault.store.list("anchors/"):
        if found.name.endswith(".fxa"):
            by_store.setdefault(found.name.split(".")[0], []).append(found.name)
    for names in by_store.values():
        for name in sorted(names, key=lambda name: (name.split(".")[1] <= now, name))[
            : -anchors.KEPT
        ]:
            await vault.store.delete(name)


async def _deleted(holding: Holding, name: ObjectName) -> bool:
    """Delete an object; one that was locked meanwhile stays until a later sweep."""
    try:
        await holding.vault.store.delete(name)
    except StoreUnusable:
        if await holding.vault.store.locked_until(name) is None:
            raise
        return False
    return True
