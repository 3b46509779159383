"""Files that need not be read again: what has the same inode, size and times as when it was last read.

The change time (``ctime``) cannot be set back by a program, so a file that was written since has another one. What
changed within a few seconds of the look is not trusted, as a later write might leave the same times; and every few
days everything is read all the same.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Protocol

from fennox.core.errors import FarSideFailed, FennoxError
from fennox.core.format.manifest import Document, KindFile, Part
from fennox.core.format.records import Previous
from fennox.core.time import parse_stamp
from fennox.engine.index import PackIndex
from fennox.engine.reading import BackupReader
from fennox.engine.vault import Vault
from fennox.engine.writing import BackupWriter
from fennox.links.base import Shell

FULL_EVERY = timedelta(days=7)  # everything is read at least this often
_TOO_FRESH = 5  # seconds
_LOOK = 'date +%s && exec find "$@" -printf "%y %i %s %T@ %C@ %p\\\\0"'  # GNU findutils


@dataclass(frozen=True)
class PartBefore:
    """A part as the backup before stored it, with the chunks that its manifest lies in."""

    part: Part
    documents: Mapping[str, Document]  # by path
    tree: set[bytes]


@dataclass(frozen=True)
class Trust:
    """What the backup before holds, by part and path. ``since``: when all of it was last read; empty: never."""

    known: Mapping[str, Mapping[bytes, Document]]
    since: str = ""
    same_kind: bool = False  # the kind is the one that the backup before was taken by
    parts: Mapping[str, PartBefore] = field(default_factory=dict)


NOTHING = Trust({})


class Known(Protocol):
    """What must be known of a system to trust what lies in its backup."""

    @property
    def folder(self) -> str: ...

    @property
    def kind_file(self) -> KindFile: ...


@dataclass(frozen=True)
class Look:
    """What lies on the machine: every path with its type, and a stamp for each file that may be trusted later."""

    types: Mapping[bytes, bytes]
    stamps: Mapping[bytes, str]


async def look(shell: Shell, roots: list[str]) -> Look | None:
    """Ask the machine for the stamps of all files below ``roots``; None if it has no ``find`` that tells them."""
    try:
        output = await shell.run(["sh", "-c", _LOOK, "sh", *roots], limit=600)
    except FarSideFailed:
        return None  # more files than a list of them can be kept in memory for
    if output.code != 0:
        return None
    clock, _, listed = output.output.partition(b"\n")
    if not clock.isdigit():
        return None
    types: dict[bytes, bytes] = {}
    stamps: dict[bytes, str] = {}
    for line in listed.split(b"\0"):
        words = line.split(b" ", 5)
        if len(words) != 6:
            continue
        kind, inode, size, modified, changed, path = words
        types[path] = kind
        if kind == b"f" and float(changed) < int(clock) - _TOO_FRESH:
            stamps[path] = b" ".join((inode, size, modified, changed)).decode("ascii")
    return Look(types, stamps)


def same(known: Mapping[bytes, Document], stamps: Mapping[bytes, str]) -> dict[bytes, Document]:
    """Documents that are as they were when they were read."""
    return {path: document for path, document in known.items() if document.stamp and stamps.get(path) == document.stamp}


async def trusted(
    vault: Vault, index: PackIndex, condemned: frozenset[str], previous: Previous | None, subject: Known, machine: str
) -> Trust:
    """What may be taken over from the backup before: all of its chunks are in packs that can be relied on."""
    if previous is None or vault.locked:
        return NOTHING
    try:
        reader = BackupReader(vault, index, await vault.find_record(previous.backup, subject.folder))
        reference = reader.record.reference
        if not _recent(reference.read_whole, vault.now()) or reference.generation != vault.header.generation:
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
                part, {document.path: document for document in documents}, await reader.tree_ids(part.root)
            )
    except FennoxError:
        return NOTHING  # it is in another store, or damaged: then everything is read
    return Trust(known, reference.read_whole or "", head.kind.text == subject.kind_file.text, parts)


async def stored_part(writer: BackupWriter, trust: Trust | None, name: str, title: str, found: list[Document]) -> Part:
    """Store a part's manifest; where every document is as it was, that of the backup before serves again."""
    before = trust.parts.get(name) if trust is not None else None
    if before is not None and before.documents == {d.path: d for d in found} and all(map(writer.holds, before.tree)):
        return before.part.model_copy(update={"title": title})
    return await writer.add_part(name, title, found)


def _recent(read_whole: str | None, now: datetime) -> bool:
    return read_whole is not None and timedelta(0) <= now - parse_stamp(read_whole) < FULL_EVERY


def _held(
    documents: Iterable[Document], index: PackIndex, generation: int, condemned: frozenset[str]
) -> list[Document]:
    def reusable(document: Document) -> bool:
        ids = (bytes.fromhex(key.id) for key in document.chunks)
        return all(index.reusable(chunk, generation, condemned) is not None for chunk in ids)

    return [document for document in documents if document.type == "file" and not document.moved and reusable(document)]


async def nul_separated(paths: Iterable[bytes]) -> AsyncIterator[bytes]:
    """As tar reads names: relative to the root, each with a zero byte behind it."""
    for path in paths:
        yield path.lstrip(b"/") + b"\0"
