"""The checks that each object of a store must pass, without any opening key: digests, seals, MACs,
and its place.
"""

from __future__ import annotations

from collections.abc import Collection
from hashlib import sha256

from fennox.core.errors import Damaged
from fennox.core.format import anchors, notes, packs, records, sweeps
from fennox.core.format import header as headers
from fennox.core.format.anchors import Present
from fennox.core.names import ObjectName
from fennox.engine.backups.opened_store import readme, rescue_source
from fennox.engine.backups.vault import README_NAME, RESCUE_NAME, RESERVE_NAME, Vault
from fennox.engine.stores.copy_backup import Holding, read_pack
from fennox.engine.stores.faults import Report
from fennox.stores.base import FoundObject


async def check_object(
    holding: Holding,
    found: FoundObject,
    report: Report,
    removed: list[sweeps.Sweep],
    names: Collection[str],
) -> int:
    """Check one object; returns the bytes read. Sweep lists come before notes, as names are in
    order.
    """
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
            raise Damaged(
                "rescue.py is not the one this version of Fennox writes.",
                "Do not run it; heal the store.",
            )
    elif name == README_NAME:
        if await vault.store.get(name) != readme(vault.id, vault.header.suite):
            raise Damaged(
                f"{name} is not the one this version of Fennox writes.", "Heal the store."
            )
    else:
        report.foreign += 1
        return 0
    return found.size


def _check_place(
    name: ObjectName, note: notes.Note, names: Collection[str], removed: Collection[sweeps.Sweep]
) -> None:
    """A note lies beside its record, or beside one that a sweep has removed (§2.2)."""
    beside = f"{name.rsplit('.', 2)[0]}.fxr"
    if note.backup and note.backup[:8] != records.short_id(name):
        raise Damaged(f"{name} holds a note of another backup.", "Somebody moved it.")
    if beside not in names and beside not in {
        item.name for sweep in removed for item in sweep.removed
    }:
        raise Damaged(f"{name} lies beside no record.", "Somebody moved it.")


async def _check_header(vault: Vault, name: ObjectName) -> None:
    data = await vault.store.get(name)
    header = headers.decode(data)
    if headers.name(header) != name:
        raise Damaged(f"{name} does not have the digest in its name.", "Heal it from another copy.")
    header.check_under(vault.secret_of(header.generation))
    if header.store != vault.id:
        raise Damaged(f"{name} is the header of another store.", "Somebody put it there.")
