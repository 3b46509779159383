"""Copying a backup to another store: as it is within a key set, resealed across key sets."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from dataclasses import dataclass

from fennox.core.errors import Conflict, Damaged, TryLater
from fennox.core.format import packs
from fennox.core.format.manifest import Document, Part
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.records import Previous, Record, Reference
from fennox.core.names import ObjectName, folder_name
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import ChunkPlace, PackIndex
from fennox.engine.backups.pack_writer import Written
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal


@dataclass(frozen=True)
class Holding:
    """A store with its chunk index."""

    vault: Vault
    index: PackIndex


@dataclass(frozen=True)
class Copied:
    """``anew``: resealed, because the stores share no keys. ``digest``: of the record in its new
    place.
    """

    written: Written
    anew: bool
    digest: str


def shares_keys(one: Vault, other: Vault, generation: int) -> bool:
    """Whether a backup of this generation can be copied between the two without resealing."""
    return one.header.key_set == other.header.key_set and generation == other.header.generation


async def copy(
    source: Holding,
    target: Holding,
    record: Record,
    journal: Journal,
    *,
    previous: Previous | None = None,
) -> Copied:
    """Copy a backup to another store, or reseal it under its own store's newest keys. Leaves one
    that exists already. ``previous``: the preceding record's name in the target, if different.
    """
    reference = record.reference
    which = "the store holds" if source is target else "both stores hold"
    await journal.step(f"Look at what {which}")
    await source.index.refresh(source.vault)
    await target.index.refresh(target.vault)
    writer = BackupWriter(target.vault, target.index, await target.vault.condemned())
    anew = not shares_keys(source.vault, target.vault, reference.generation)
    there = await _already_there(target.vault, reference)
    if there is not None:
        await carry_notes(source.vault, record.reference, target.vault, there.reference)
        return Copied(Written(), anew, there.digest)
    reader = BackupReader(source.vault, source.index, record)
    if anew:
        await journal.step("Open the backup and seal it again")
        reference, sealed = await _sealed_anew(reader, writer, journal)
        reference = reference.model_copy(update={"previous": previous}) if previous else reference
    else:
        await journal.step("Send what the store lacks")
        await send_chunks(source, writer, await reader.needed(), journal)
        sealed = record.sealed
    await journal.step("Write the record")
    if writer.relies_on(await target.vault.condemned()):
        raise TryLater("A sweep condemned packs that this copy relies on.", "Copy it again.")
    placed = _placed(reference, target.vault)
    data = await writer.commit(placed, sealed, journal.check)
    await carry_notes(source.vault, record.reference, target.vault, placed)
    return Copied(writer.written, anew, blake2b_256(data))


async def carry_notes(source: Vault, record: Reference, target: Vault, copy: Reference) -> int:
    """Add notes the copy lacks, as after an interrupted attempt. Returns their number."""
    written = 0
    told = list((await target.notes_of(target.record_name(copy))).values())
    for note in (await source.notes_of(source.record_name(record))).values():
        if not any(note.says(other) for other in told):
            await target.write_note(note, copy)
            written += 1
    return written


async def _already_there(vault: Vault, reference: Reference) -> Record | None:
    newest = reference.model_copy(update={"generation": vault.header.generation})
    name = vault.record_name(_placed(newest, vault))
    if await vault.store.stat(name) is None:
        return None
    there = await vault.read_record(name)
    if there.reference.backup != reference.backup:
        raise Conflict(f"{name} is another backup.", "Check the store.")
    return there


def _placed(reference: Reference, vault: Vault) -> Reference:
    """The reference as named in a store with or without plain names."""
    plain = vault.header.plain_names
    folder = folder_name(reference.system_name, reference.system) if plain else reference.system[:8]
    if plain and reference.folder != reference.system[:8]:
        folder = reference.folder
    return reference.model_copy(update={"folder": folder})


async def send_chunks(
    source: Holding, writer: BackupWriter, needed: set[bytes], journal: Journal
) -> None:
    """Send sealed chunks, reading each source pack once and only after verifying its digest."""
    wanted: dict[ObjectName, list[ChunkPlace]] = defaultdict(list)
    for chunk_id in sorted(needed):
        if not writer.holds(chunk_id):
            place = source.index.sound_place(chunk_id)
            if place is None:
                raise Damaged(
                    f"Chunk {chunk_id.hex()[:16]} is in no sound pack.",
                    "Heal the store, then copy again.",
                )
            wanted[place.pack].append(place)
    sent = 0
    for pack, places in sorted(wanted.items()):
        data = await read_pack(source, pack)
        for place in places:
            start = place.entry.offset
            await writer.add_sealed(
                place.entry.id, data[start : start + place.entry.length], place.entry.plain_length
            )
            sent += place.entry.length
            await journal.progress(documents=0, bytes=sent)
    await writer.flush()


async def read_pack(source: Holding, pack: ObjectName) -> bytes:
    """A whole, verified pack; a damaged one is taken out of use immediately."""
    data = await source.vault.store.get(pack)
    try:
        await asyncio.to_thread(packs.check_digest, data, pack)
    except Damaged as error:
        source.index.mark_damaged(pack, error.what)
        raise
    return data


async def _sealed_anew(
    reader: BackupReader, writer: BackupWriter, journal: Journal
) -> tuple[Reference, bytes]:
    head = await reader.head()
    parts: list[Part] = []
    count = size = 0
    for part in head.parts:
        held: list[Document] = []
        async for document in reader.documents(part):
            if document.type in ("file", "output"):
                content = await writer.add_content(reader.content(document), expected=document.size)
                document = document.model_copy(update={"chunks": content.chunks})
            held.append(document)
            count, size = count + 1, size + document.size
            await journal.progress(documents=count, bytes=size)
        parts.append(await writer.add_part(part.name, part.title, held))
    old = reader.record.reference
    id_list, sealed = await writer.seal_manifest(
        head.model_copy(update={"parts": parts}), old.backup
    )
    changes = {
        "generation": writer.vault.header.generation,
        "origin": writer.vault.id,
        "id_list": id_list,
        "sealed_digest": blake2b_256(sealed),
    }
    return old.model_copy(update=changes), sealed
