"""Checks every object of a store must pass, without an opening key: digests, seals, MACs, and its
place.
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
    vault, name = holding.vault, found.name
    top, suffix = name.split("/")[0], name.rsplit(".", 1)[-1]
    if (top, suffix) == ("packs", "fxp"):
        return await _check_pack(holding, name)
    if found.size > packs.MAX_PACK:
        report.foreign += 1
        return 0
    match top, suffix:
        case "systems", "fxr":
            record = await vault.read_record(name)
            known = report.records.get(record.reference.backup)
            if known is None or known.reference.generation < record.reference.generation:
                report.records[record.reference.backup] = record
        case "systems", "fxn":
            await _check_note(vault, name, report, removed, names)
        case "sweep", "fxc":
            removed.append(await _checked_sweep(vault, name))
        case "anchors", "fxa":
            await _check_anchor(vault, name)
        case "header", "json":
            await _check_header(vault, name)
        case _:
            if not await _is_plain(vault, name):
                report.foreign += 1
                return 0
    return found.size


async def _check_pack(holding: Holding, name: ObjectName) -> int:
    vault = holding.vault
    data = await read_pack(holding, name)
    length = packs.table_length(data[: packs.FIXED])
    secret = vault.secret_of(packs.generation(data))
    packs.decode_table(data[:length], secret, vault.id, len(data))
    return len(data)


async def _check_note(
    vault: Vault,
    name: ObjectName,
    report: Report,
    removed: list[sweeps.Sweep],
    names: Collection[str],
) -> None:
    data = await vault.store.get(name)
    note = notes.decode(data, vault.secret_of(notes.generation(data)), vault.id)
    _check_place(name, note, names, removed)
    report.present.setdefault(note.system, Present()).notes[name] = note.written


async def _checked_sweep(vault: Vault, name: ObjectName) -> sweeps.Sweep:
    data = await vault.store.get(name)
    sweep = sweeps.decode(data, vault.secret_of(sweeps.generation(data)), vault.id)
    if not name.startswith(f"sweep/{sweep.time}."):
        raise Damaged(f"{name} holds the list of {sweep.time}.", "Somebody renamed it.")
    return sweep


async def _check_anchor(vault: Vault, name: ObjectName) -> None:
    data = await vault.store.get(name)
    anchor = anchors.decode(data, vault.secret_of(anchors.generation(data)), vault.id)
    if not name.startswith(f"anchors/{anchor.store[:8]}.{anchor.time}."):
        raise Damaged(f"{name} is of another store or time.", "Somebody renamed it.")


async def _is_plain(vault: Vault, name: ObjectName) -> bool:
    """Check an unencrypted file of the store. Returns whether it is one."""
    if name == RESERVE_NAME:
        return True  # the reserve file holds nothing
    if name == RESCUE_NAME:
        if sha256(await vault.store.get(name)).digest() != sha256(rescue_source()).digest():
            raise Damaged(
                "rescue.py is not the one this version of Fennox writes.",
                "Do not run it; heal the store.",
            )
        return True
    if name == README_NAME:
        if await vault.store.get(name) != readme(vault.id, vault.header.suite):
            raise Damaged(
                f"{name} is not the one this version of Fennox writes.", "Heal the store."
            )
        return True
    return False


def _check_place(
    name: ObjectName, note: notes.Note, names: Collection[str], removed: Collection[sweeps.Sweep]
) -> None:
    """Check that a note is beside its record, or beside one a sweep removed (§2.2)."""
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
