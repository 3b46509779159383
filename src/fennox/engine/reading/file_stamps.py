"""Files that need not be read again because inode, size and times are as at the last reading. A
program cannot set the change time (``ctime``) back, so a file written since has another one. Files
changed within a few seconds of the listing are not trusted, as a later write might leave the same
times. Every few days everything is read anyway.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Protocol

from fennox.core.errors import FennoxError
from fennox.core.format.manifest import Document, KindFile, Part
from fennox.core.format.records import Previous
from fennox.core.time import parse_stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault

FULL_EVERY = timedelta(days=7)  # everything is read at least this often


@dataclass(frozen=True)
class PartBefore:
    """A part of the previous backup, with the chunks of its manifest."""

    part: Part
    documents: Mapping[str, Document]  # by path
    tree: set[bytes]


@dataclass(frozen=True)
class Trust:
    """The previous backup's documents by part and path. ``since``: when everything was last read;
    empty: never.
    """

    known: Mapping[str, Mapping[bytes, Document]]
    since: str = ""
    same_kind: bool = False  # the kind is the same as for the previous backup
    parts: Mapping[str, PartBefore] = field(default_factory=dict)


NOTHING = Trust({})


class KnownFiles(Protocol):
    """Facts about a system needed to reuse its previous backup."""

    @property
    def folder(self) -> str: ...

    @property
    def kind_file(self) -> KindFile: ...


def same(known: Mapping[bytes, Document], stamps: Mapping[bytes, str]) -> dict[bytes, Document]:
    """Documents unchanged since they were read."""
    return {
        path: document
        for path, document in known.items()
        if document.stamp and stamps.get(path) == document.stamp
    }


async def trusted(
    vault: Vault,
    index: PackIndex,
    condemned: frozenset[str],
    previous: Previous | None,
    subject: KnownFiles,
    machine: str,
) -> Trust:
    """What may be reused from the previous backup, whose chunks are all in reliable packs."""
    if previous is None or vault.locked:
        return NOTHING
    with suppress(FennoxError):
        return await _trusted(vault, index, condemned, previous, subject, machine)
    with suppress(FennoxError):  # in another store, or damaged: read everything
        await index.refresh(vault)  # or written by another process since
        return await _trusted(vault, index, condemned, previous, subject, machine)
    return NOTHING


async def _trusted(
    vault: Vault,
    index: PackIndex,
    condemned: frozenset[str],
    previous: Previous,
    subject: KnownFiles,
    machine: str,
) -> Trust:
    reader = BackupReader(vault, index, await vault.find_record(previous.backup, subject.folder))
    reference = reader.record.reference
    if (
        not recent(reference.read_whole, vault.now())
        or reference.generation != vault.header.generation
    ):
        return NOTHING
    head = await reader.head()
    if head.machine.id != machine:
        return NOTHING
    known, parts = {}, {}
    for part in head.parts:
        documents = [document async for document in reader.documents(part)]
        held = _held(documents, index, reference.generation, condemned)
        known[part.name] = {document.path_bytes(): document for document in held}
        parts[part.name] = PartBefore(
            part,
            {document.path: document for document in documents},
            await reader.tree_ids(part.root),
        )
    return Trust(known, reference.read_whole or "", head.kind.text == subject.kind_file.text, parts)


async def stored_part(
    writer: BackupWriter, trust: Trust | None, name: str, title: str, found: list[Document]
) -> Part:
    """Store a part's manifest; if no document changed, reuse the previous backup's."""
    before = trust.parts.get(name) if trust is not None else None
    if (
        before is not None
        and before.documents == {d.path: d for d in found}
        and all(map(writer.holds, before.tree))
    ):
        return before.part.model_copy(update={"title": title})
    return await writer.add_part(name, title, found)


def recent(read_whole: str | None, now: datetime) -> bool:
    """Whether everything was read recently enough."""
    return read_whole is not None and timedelta(0) <= now - parse_stamp(read_whole) < FULL_EVERY


def _held(
    documents: Iterable[Document], index: PackIndex, generation: int, condemned: frozenset[str]
) -> list[Document]:
    def reusable(document: Document) -> bool:
        ids = (bytes.fromhex(key.id) for key in document.chunks)
        return all(index.reusable(chunk, generation, condemned) is not None for chunk in ids)

    return [
        document
        for document in documents
        if document.type == "file" and not document.moved and reusable(document)
    ]


async def nul_separated(paths: Iterable[bytes]) -> AsyncIterator[bytes]:
    """Names for tar: relative to the root, each followed by a zero byte."""
    for path in paths:
        yield path.lstrip(b"/") + b"\0"
