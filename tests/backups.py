"""Makes small backups straight through the writer, for tests that need one in a store."""

from __future__ import annotations

import secrets
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass
from datetime import datetime

from fennox.core.format import records
from fennox.core.format.manifest import Document, Head, KindFile, Machine, Reached
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.time import stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.pack_writer import Written
from fennox.engine.backups.record_lists import list_backups
from fennox.engine.backups.vault import Vault

SYSTEM = "5e" * 16


async def once(data: bytes) -> AsyncIterator[bytes]:
    yield data


async def store_backup(
    vault: Vault,
    index: PackIndex,
    documents: Mapping[str, bytes],
    *,
    name: str = "",
    sequence: int = 1,
    apart: bool = False,
) -> tuple[str, Written]:
    """Write one backup with a single part ``settings``; returns its id and what was written."""
    writer = BackupWriter(vault, index, await vault.condemned())
    held = [
        await write_document(writer, path, once(data), len(data), apart=apart)
        for path, data in documents.items()
    ]
    return await commit(writer, held, name=name, sequence=sequence), writer.written


async def store_stream(
    vault: Vault, index: PackIndex, path: str, stream: AsyncIterator[bytes], size: int
) -> tuple[str, str]:
    """One backup of one document that never is in memory whole; returns its id and the document's
    digest.
    """
    writer = BackupWriter(vault, index, await vault.condemned())
    document = await write_document(writer, path, stream, size, apart=False)
    return await commit(writer, [document], name="", sequence=1), str(document.digest)


async def write_document(
    writer: BackupWriter, path: str, stream: AsyncIterator[bytes], size: int, *, apart: bool
) -> Document:
    content = await writer.add_content(stream, expected=size, apart=apart)
    return Document(
        path=path,
        type="file",
        mode=0o640,
        modified=1_770_000_000,
        size=content.size,
        digest=content.digest,
        chunks=content.chunks,
    )


async def commit(
    writer: BackupWriter,
    held: list[Document],
    *,
    name: str,
    sequence: int,
    part_name: str = "settings",
    purpose: records.Purpose = "backup",
    partial: bool = False,
    kind_text: str = 'title = "Test"',
    census: dict[str, list[str]] | None = None,
) -> str:
    vault = writer.vault
    part = await writer.add_part(part_name, "Settings", held)
    head = Head(
        kind=KindFile(name="test", version=1, text=kind_text),
        settings={},
        machine=Machine(id="m-1", product="testos", version="1"),
        reached=Reached(address="127.0.0.1:1", account="root", key="SHA256:x"),
        parts=[part],
        census={"files": sorted(document.path for document in held)} | (census or {}),
        expected={},
        findings=[],
        left_out=[],
        routine=None,
        fennox="test",
    )
    backup = secrets.token_hex(16)
    id_list, sealed = await writer.seal_manifest(head, backup)
    reference = records.Reference(
        backup=backup,
        run=secrets.token_hex(16),
        attempt=1,
        system=SYSTEM,
        system_name="web-9",
        folder="web-9-5e5e5e5e" if vault.header.plain_names else SYSTEM[:8],
        kind="test",
        name=name,
        note="",
        purpose=purpose,
        time=stamp(vault.now()),
        sequence=sequence,
        previous=None,
        parts=[part_name],
        partial=partial,
        routine=None,
        generation=vault.header.generation,
        origin=vault.id,
        id_list=id_list,
        sizes=records.Sizes(documents=len(held), bytes=part.bytes, new_chunks=0, new_bytes=0),
        sealed_digest=blake2b_256(sealed),
    )
    await writer.commit(reference, sealed, _still_ours)
    return backup


async def _still_ours() -> None:
    """Nobody else has taken the run."""


async def read_back(vault: Vault, backup: str, index: PackIndex | None = None) -> dict[str, bytes]:
    """All documents of a backup, through the reader."""
    if index is None:
        index = PackIndex()
        await index.refresh(vault)
    reader = BackupReader(vault, index, await vault.find_record(backup))
    found = {}
    for part in (await reader.head()).parts:
        async for document in reader.documents(part):
            found[document.path] = b"".join([piece async for piece in reader.content(document)])
    return found


async def all_backups(vault: Vault) -> list[str]:
    good, bad = await list_backups(vault)
    assert bad == []
    return [record.reference.backup for record in good]


@dataclass(frozen=True)
class Item:
    """A backup as a ladder sees it (``fennox.core.retention.ladder.Ranked``)."""

    id: str
    time: datetime
    held: str | None = None  # the reason, if it is on hold
    doubtful: bool = False
    safety: bool = False
