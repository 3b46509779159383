"""Freeing space: records nothing keeps, then packs no record needs (store-format §11). A pack is
first condemned, so that every take treats it as absent, and deleted by a later sweep once the grace
period is over and all records have been read again. So a running take, a second worker or a stop at
any point loses nothing: a pack is only touched if it has been recorded as condemned for long
enough.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Collection, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from fennox.core.errors import FennoxError, StoreUnusable
from fennox.core.format import anchors, notes, packs
from fennox.core.format.records import Record
from fennox.core.format.sweeps import RemovedBackup, Sweep
from fennox.core.names import ObjectName
from fennox.core.time import parse_stamp, stamp
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, read_pack
from fennox.engine.stores.sweep_plan import GRACE, Locked, Plan, free, look, places, plan
from fennox.stores.base import FoundObject

Still = Callable[[Collection[str]], Awaitable[set[str]]]


@dataclass
class Swept:
    """Results of a sweep. ``records``: removed backups; ``superseded``: resealed records;
    ``unfinished``: writes of runs that died; ``locked``: objects still locked by the far side.
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


async def sweep(
    holding: Holding,
    expired: Mapping[str, str],
    by: str,
    now: datetime,
    journal: Journal,
    still: Still | None = None,
) -> Swept:
    """Carry out a :func:`plan`. May stop at any point: each step is recorded before it is done.
    ``still``: called directly before removal; returns the backups that may still be removed.
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
    await journal.step("Repack what is mostly dead or small")
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
    """The newest dates in names of a store's records and sweep lists."""
    found: dict[Dated, datetime] = {}
    for what, prefix, ending in _DATED:
        async for item in vault.store.list(prefix):
            if item.name.endswith(ending):
                with suppress(ValueError):  # other names contain no date
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
    """First write the list that explains the gap, then remove the record, then its notes."""
    vault = holding.vault
    await journal.step("Remove records that nothing keeps")
    going = await _going(holding, made, expired, now)
    if still is not None:
        asked = [one.backup for one in going if one.backup in expired]
        left = await still(asked)
        going = [one for one in going if one.backup not in expired or one.backup in left]
    if not going:
        return
    removed = [
        RemovedBackup(
            name=one.name,
            why=made.expired[one.name],
            system=one.record.reference.system,
            sequence=one.record.reference.sequence,
            superseded=one.backup not in expired,
            notes=one.notes,
        )
        for one in going
    ]
    await journal.check()
    await vault.write_sweep(_list("removed", now, by, [], removed))
    for one in going:
        await journal.check()
        its_notes = await vault.notes_of(one.name)
        if await _deleted(holding, one.name):
            if one.backup in expired:
                done.records.append(one.backup)
            else:
                done.superseded += 1
            for note in its_notes:
                await _deleted(holding, note)


@dataclass(frozen=True)
class _Going:
    """A removable record and its number of notes."""

    name: ObjectName
    record: Record
    notes: int

    @property
    def backup(self) -> str:
        return self.record.reference.backup


async def _going(
    holding: Holding, made: Plan, expired: Mapping[str, str], now: datetime
) -> list[_Going]:
    """The plan's records that are neither on hold nor locked, as now in the store."""
    vault = holding.vault
    going = []
    for name in made.expired:
        record = await vault.read_record(name)
        said = list((await vault.notes_of(name)).values())
        is_expired = record.reference.backup in expired
        if is_expired and notes.merge(said).held:
            continue
        if not is_expired and not await _said_of_newest(vault, record, said):
            # the run that resealed it died before carrying the notes over, and will resume
            continue
        if await free(holding, name, now, made.locked):
            going.append(_Going(name, record, len(said)))
    return going


async def _said_of_newest(vault: Vault, record: Record, said: list[notes.Note]) -> bool:
    newest = await vault.find_record(record.reference.backup, record.reference.folder)
    told = list((await vault.notes_of(vault.record_name(newest.reference))).values())
    return all(any(note.says(other) for other in told) for note in said)


async def _repack(
    holding: Holding, made: Plan, expired: Mapping[str, str], done: Swept, journal: Journal
) -> list[FoundObject]:
    """Write the chunks in use of such packs into new packs; the old ones are condemned, not
    deleted.
    """
    if not made.repack:
        return []
    vault = holding.vault
    doomed = frozenset(packs.digest_in_name(found.name) for found in made.repack)
    seen = await look(holding, expired, journal)
    live = set[bytes]().union(*seen.live.values())
    writer = BackupWriter(vault, holding.index, (await vault.condemned()) | doomed)
    replaced = []
    for found in made.repack:
        await journal.check()
        try:
            data = await read_pack(Holding(vault, holding.index), found.name)
        except FennoxError:
            continue  # a damaged pack is left for the scrub to heal
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
    """Delete after the grace period and a fresh reading of all records: a new record may need the
    pack.
    """
    if not doomed:
        return
    await journal.step("Read every record again")
    seen = await look(holding, None, journal)
    needed = places(holding, seen, await holding.vault.condemned())
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
    """Remove unfinished writes of dead runs. If the far side reports no age, they stay."""
    store = holding.vault.store
    await journal.step("Remove what was never finished")
    for found in await store.unfinished():
        there = found if found.modified is not None else await store.stat(found.name)
        if there is not None and there.modified is not None and now - there.modified >= GRACE:
            await store.delete(found.name)
            done.unfinished += 1
            done.freed += found.size


async def _remove_old_anchors(vault: Vault) -> None:
    """For each store described here the newest few stay. An anchor dated in the future is wrong and
    counts as the oldest.
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
    """Delete an object; one locked meanwhile stays until a later sweep."""
    try:
        await holding.vault.store.delete(name)
    except StoreUnusable:
        if await holding.vault.store.locked_until(name) is None:
            raise
        return False
    return True
