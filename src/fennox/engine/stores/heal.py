"""Healing a damaged store from other copies, object by object. Packs are never overwritten: lost
chunks are written into new packs, and readers use a sound one of several. Records, headers, the
reader and the readme have fixed names, so a damaged one is removed once its replacement is at hand.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass, field

from fennox.core.errors import Damaged, FennoxError, NotFound
from fennox.core.format import header as headers
from fennox.core.format import notes, packs, records, sweeps
from fennox.core.format.sweeps import Sweep
from fennox.core.names import ObjectName, object_name
from fennox.core.time import stamp
from fennox.core.words import counted
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.opened_store import readme, rescue_source
from fennox.engine.backups.vault import README_NAME, RESCUE_NAME, Vault
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, carry_notes, copy, read_pack, shares_keys
from fennox.engine.stores.faults import GONE, Report, in_place_of, lost_chunks


@dataclass
class Healed:
    """Healed objects; ``left``: backups no other store could heal, with reasons."""

    objects: dict[str, str] = field(default_factory=dict)
    left: dict[str, str] = field(default_factory=dict)


async def heal(
    damaged: Holding,
    report: Report,
    others: Mapping[str, Holding],
    copies: Mapping[str, list[str]],
    journal: Journal,
) -> Healed:
    """``others``: other stores by name. ``copies``: backup → names of the other stores that hold
    it.
    """
    healed = Healed()
    await journal.step("Heal what was found")
    await _heal_fixed(damaged, report, healed)
    await _heal_notes(damaged, report, others, copies, healed)
    stores = list(others.values())
    await _fetch(damaged, set[bytes]().union(*report.lost.values()), stores, journal)
    # once its id list is restored, a backup may turn out to lack more
    missing = {backup: await lost_chunks(damaged, report.records[backup]) for backup in report.lost}
    await _fetch(damaged, set[bytes]().union(*missing.values()), stores, journal)
    for backup in report.lost:
        await journal.check()
        left = await lost_chunks(damaged, report.records[backup]) if missing[backup] else set()
        if left:
            where = "no other copy is whole" if copies.get(backup) else "no other store holds it"
            healed.left[backup] = f"It has lost {counted(len(left), 'chunk')}, and {where}."
        else:
            healed.objects[in_place_of(backup)] = "its chunks were fetched from another copy"
    if GONE in report.costs and report.costs[GONE].isdisjoint(healed.left):
        healed.objects[GONE] = "what was in them was fetched from another copy"
    await _retire_damaged_packs(damaged, report, healed)
    for backup in report.missing:
        sources = [others[name] for name in copies.get(backup, []) if name in others]
        await _heal_record(damaged, report, backup, sources, healed, journal)
    return healed


async def _retire_damaged_packs(damaged: Holding, report: Report, healed: Healed) -> None:
    """Condemn a damaged pack that nothing needs any more; a sweep removes it after the grace
    period.
    """
    if healed.left:
        return
    faults = [fault.object for fault in report.faults if fault.object.startswith("packs/")]
    if faults:
        now = stamp(damaged.vault.now())
        digests = [packs.digest_in_name(name) for name in faults]
        await damaged.vault.write_sweep(
            Sweep(
                stage="condemned",
                time=now,
                by=damaged.vault.header.sweeper,
                condemned=digests,
                removed=[],
            )
        )
        healed.objects |= {name: "what it held was fetched from another copy" for name in faults}


async def _heal_fixed(damaged: Holding, report: Report, healed: Healed) -> None:
    vault = damaged.vault
    whole: dict[ObjectName, bytes] = {
        README_NAME: readme(vault.id, vault.header.suite),
        RESCUE_NAME: rescue_source(),
        headers.name(vault.header): headers.encode(vault.header),
    }
    found = {fault.object for fault in report.faults}
    for name, data in whole.items():
        if name in found or await vault.store.stat(name) is None:
            await vault.store.delete(name)
            await vault.store.put(name, data)
            healed.objects[name] = "rewritten"


async def _heal_notes(
    damaged: Holding,
    report: Report,
    others: Mapping[str, Holding],
    copies: Mapping[str, list[str]],
    healed: Healed,
) -> None:
    """Remove damaged notes and sweep lists: another copy may have the note, and packs are condemned
    again.
    """
    vault = damaged.vault
    for fault in report.faults:
        if fault.object.startswith("sweep/"):
            kept = await _list_put_back(vault, object_name(fault.object))
            how = (
                "rewritten under its name"
                if kept
                else "removed; the next sweep looks again at what it named"
            )
        elif fault.object.startswith("anchors/"):
            how = "removed; the next sweep of the store that it is about writes another"
        elif fault.object.endswith(".fxn"):
            back = await _put_back(vault, report, object_name(fault.object))
            await vault.store.delete(object_name(fault.object))
            how = back or await _ask_others(vault, report, fault.object, others, copies)
            healed.objects[fault.object] = how
            continue
        else:
            continue
        await vault.store.delete(object_name(fault.object))
        healed.objects[fault.object] = how


async def _ask_others(
    vault: Vault,
    report: Report,
    note: str,
    others: Mapping[str, Holding],
    copies: Mapping[str, list[str]],
) -> str:
    """Write notes known to other copies of the backup. Returns the outcome as text."""
    short = records.short_id(object_name(note))
    backup = next((backup for backup in report.records if backup[:8] == short), "")
    known = [others[store] for store in copies.get(backup, []) if store in others]
    for other in known:
        with contextlib.suppress(FennoxError):  # the next copy may have them
            told = await other.vault.find_record(backup)
            record = report.records[backup]
            await carry_notes(other.vault, told.reference, vault, record.reference)
    if known:
        return "removed; what other copies know was written again"
    return "removed; no other store knows what it said"


async def _put_back(vault: Vault, report: Report, name: ObjectName) -> str | None:
    """Move a misplaced note beside its record. None: the note is unreadable or has no record."""
    try:
        data = await vault.store.get(name)
        note = notes.decode(data, vault.secret_of(notes.generation(data)), vault.id)
    except (Damaged, NotFound):
        return None
    record = report.records.get(note.backup)
    if record is None:
        return None
    there = await vault.notes_of(vault.record_name(record.reference))
    if not any(note.says(other) for other in there.values()):
        await vault.write_note(note, record.reference)
    return "removed; what it says is beside its record"


async def _list_put_back(vault: Vault, name: ObjectName) -> bool:
    """Rewrite a sweep list under its correct name, because it explains removals. False: it is
    damaged.
    """
    try:
        data = await vault.store.get(name)
        sweep = sweeps.decode(data, vault.secret_of(sweeps.generation(data)), vault.id)
    except (Damaged, NotFound):
        return False
    await vault.write_sweep(sweep)
    return True


async def _fetch(
    damaged: Holding, chunks: set[bytes], others: list[Holding], journal: Journal
) -> None:
    """Fetch lost chunks from stores of the same key set into new packs."""
    missing = set(chunks)
    if not missing:
        return
    writer = BackupWriter(damaged.vault, damaged.index, await damaged.vault.condemned())
    for other in others:
        if not missing or not shares_keys(
            other.vault, damaged.vault, damaged.vault.header.generation
        ):
            continue
        await other.index.refresh(other.vault)
        for pack in {place.pack for c in missing if (place := other.index.sound_place(c))}:
            await journal.check()
            try:
                data = await read_pack(other, pack)
            except FennoxError:
                continue
            for entry in other.index.packs[pack].entries:
                if entry.id in missing:
                    sealed = data[entry.offset : entry.offset + entry.length]
                    await writer.add_sealed(entry.id, sealed, entry.plain_length)
                    missing.discard(entry.id)
    await writer.flush()
    await writer.confirm()


async def _heal_record(
    damaged: Holding,
    report: Report,
    backup: str,
    sources: list[Holding],
    healed: Healed,
    journal: Journal,
) -> None:
    """Restore a lost or damaged record from another copy, with all it needs."""
    why = "its record is damaged or gone, and no other store holds it."
    for source in sources:
        try:
            record = await source.vault.find_record(backup)
            mine = [
                fault.object
                for fault in report.faults
                if fault.object.endswith(".fxr")
                and records.short_id(object_name(fault.object)) == backup[:8]
            ]
            for name in mine:
                await damaged.vault.store.delete(object_name(name))
            copied = await copy(source, damaged, record, journal)
        except FennoxError as error:
            why = f"its record is damaged or gone; the other copy could not heal it: {error.what}"
            continue
        report.records[backup] = records.Record(record.reference, record.sealed, copied.digest)
        healed.objects |= dict.fromkeys([*mine, in_place_of(backup)], "copied from another store")
        return
    healed.left[backup] = why
