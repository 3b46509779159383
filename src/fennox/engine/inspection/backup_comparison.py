"""Comparing two backups, or a backup with the live system. Reads only documents that differ."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import aclosing
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Literal

from fennox.core.compare import documents as comparing
from fennox.core.compare.model import MOST_CHANGES, Comparison, DocumentChange, ListChange
from fennox.core.compare.shapes import MAX_SHOWN
from fennox.core.errors import BadInput, NotFound, PersonNeeded
from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Document, KindFile
from fennox.core.format.primitives.digest import Digest
from fennox.core.kind_files.loading import load
from fennox.core.kinds.expressions import fitting
from fennox.core.kinds.filling import for_system
from fennox.core.kinds.model import Kind
from fennox.core.names import printable
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading.capture import Capture, Captured, identify, once
from fennox.engine.reading.documents import read_documents
from fennox.links.base import Link

_MAX_HELD = 256 * 1024 * 1024  # bytes of a live system's documents that are held for a comparison


@dataclass(frozen=True)
class Side:
    """A backup or a live system, with its documents by part and path. ``content``: None if not
    available. ``rules``: the kind at that time, which determines what was read and how lists are
    evaluated; None: unreadable.
    """

    parts: Mapping[str, Mapping[str, Document]]
    census: Census
    kind: str
    machine: str
    rules: Kind | None
    content: Callable[[Document], AsyncIterator[bytes] | None]


async def side_of(reader: BackupReader) -> Side:
    head = await reader.head()
    parts = {part.name: {d.path: d async for d in reader.documents(part)} for part in head.parts}
    return Side(
        parts,
        head.census,
        head.kind.name,
        head.machine.id,
        rules_of(head.kind, head.settings),
        reader.content,
    )


def rules_of(file: KindFile, settings: Mapping[str, str]) -> Kind | None:
    """The kind that a backup carries, with its settings filled in; None: this version cannot read
    it any more.
    """
    try:
        return for_system(_loaded(file.text), settings)
    except BadInput:
        return None


@lru_cache(maxsize=64)
def _loaded(text: str) -> Kind:
    return load(text)


def same_list(before: Kind | None, after: Kind | None, name: str) -> bool:
    """Whether both sides evaluate a census list by the same rules."""
    return (
        before is not None
        and after is not None
        and before.census.get(name) == after.census.get(name)
    )


def _same_sources(before: Kind | None, after: Kind | None, part: str) -> bool:
    """Whether both sides read a part by the same rules."""
    if before is None or after is None:
        return False
    ours, theirs = (
        [model.source for model in kind.part if model.name == part] for kind in (before, after)
    )
    return ours == theirs


async def live_side(
    kind: Kind,
    link: Link,
    settings: dict[str, str],
    against: Side,
    counts: str,
    evaluates: Evaluates,
) -> Side:
    """The system as it is now, read once; keeps only what differs from ``against``. Stores nothing,
    and sets off no push.
    ``counts``: id of the machine that is the system now; the backup may be of an earlier machine.
    """
    machine = await identify(kind, link, settings)
    if machine.id != counts:
        raise PersonNeeded(
            f"The machine says it is {machine.id}; the system was {counts} until now.",
            "It was reinstalled, replaced, or this is the wrong machine. If it is the right one,"
            " confirm it.",
            machine=machine.id,
        )
    capture = Capture(kind, settings, machine)
    parts: dict[str, dict[str, Document]] = {
        part.name: {}
        for part in kind.part
        if part.name in against.parts and not part.comes_by_itself and not part.asks_for_push
    }
    held = _Held(_MAX_HELD)
    async with aclosing(read_documents(link, capture, list(parts))) as documents:
        async for captured in documents:
            known = against.parts[captured.part].get(captured.document.path)
            document = await held.read(captured, known)
            parts[captured.part][document.path] = document
    census = (await capture.told(list(parts), evaluates)).counted()
    return Side(parts, census, kind.name, machine.id, capture.kind, held.content)


class _Held:
    """Contents of a live system's documents that differ from the backup's, by digest.

    ``room``: bytes that may be held in all.
    """

    def __init__(self, room: int) -> None:
        self._contents: dict[str, bytes] = {}
        self._room = room

    async def read(self, captured: Captured, known: Document | None) -> Document:
        """The document with its digest and size. ``known``: the backup's of the same path."""
        document, digest, size, kept = captured.document, Digest(), 0, bytearray()
        async for block in captured.content:
            digest.update(block)
            size += len(block)
            if size <= MAX_SHOWN:
                kept += block
        if document.type in ("file", "output"):
            document = document.model_copy(update={"digest": digest.hexdigest(), "size": size})
        differs = known is not None and known.digest != document.digest
        if document.digest and differs and size <= len(kept) <= self._room:
            self._contents[document.digest] = bytes(kept)
            self._room -= size
        return document

    def content(self, document: Document) -> AsyncIterator[bytes] | None:
        data = self._contents.get(document.digest or "")
        return once(data) if data is not None else None


async def compare(
    kind: Kind,
    left: Side,
    right: Side,
    salt: bytes,
    evaluates: Evaluates,
    *,
    patches: bool = False,
    only: Sequence[str] = ("*",),
) -> Comparison:
    """Changes from one side to the other. ``kind``: supplies the rules for noise, order and
    secrets. Parts only one side has are named but not compared. ``salt`` blinds hidden values;
    fresh for each use. ``patches``: each changed document also gets a JSON Patch (RFC 6902).
    ``only``: patterns of paths; other documents and all lists are left out.
    """
    if left.kind != right.kind:
        raise BadInput(
            f"One backup is of the kind {left.kind}, the other of {right.kind}.",
            "Compare two of the same kind.",
        )
    sides = (left, right)
    shared = [name for name in left.parts if name in right.parts]
    walk = _Walk(kind, left, right, salt, evaluates, patches=patches, room=MOST_CHANGES)
    fits = fitting(only)
    for part in shared:
        both = [{comparing.named_by(kind, path) for path in side.parts[part]} for side in sides]
        for path in filter(fits, sorted({*left.parts[part], *right.parts[part]})):
            name = comparing.named_by(kind, path)
            if name != path and all(name in names for names in both):
                walk.noise += 1
            else:
                await walk.look(part, path)
    if walk.is_empty and "*" not in only:
        raise NotFound(
            f"Neither side holds a document like {', '.join(map(printable, only))}.",
            "`fennox backup show BACKUP --documents` lists them; * stands for anything.",
        )
    whole = "*" in only
    lists = {*left.census, *right.census}
    same_lists = {name for name in lists if same_list(left.rules, right.rules, name)}
    counted = [_counted(side, same_lists) for side in sides]
    return Comparison(
        documents=walk.changes,
        lists=list_changes(*counted) if whole else [],
        other_lists=sorted(lists - same_lists) if whole else [],
        other_sources=[name for name in shared if not _same_sources(left.rules, right.rules, name)],
        same=walk.same,
        noise=walk.noise,
        only_left_parts=[name for name in left.parts if name not in right.parts],
        only_right_parts=[name for name in right.parts if name not in left.parts],
    )


@dataclass
class _Walk:
    """Compares document by document. ``same`` and ``noise`` are counts; ``room``: number of changed
    values that may still be shown.
    """

    kind: Kind
    left: Side
    right: Side
    salt: bytes
    evaluates: Evaluates
    patches: bool
    room: int
    changes: list[DocumentChange] = field(default_factory=list)
    same: int = 0
    noise: int = 0

    @property
    def is_empty(self) -> bool:
        return not self.changes and not self.same and not self.noise

    async def look(self, part: str, path: str) -> None:
        before = self.left.parts[part].get(path)
        after = self.right.parts[part].get(path)
        if before is None or after is None:
            word: Literal["added", "removed"] = "added" if before is None else "removed"
            there = before or after
            assert there is not None
            self.changes.append(comparing.only_there(word, part, there, self.kind))
        elif equal(before, after):
            self.same += 1
        else:
            await self._changed(part, before, after)

    async def _changed(self, part: str, before: Document, after: Document) -> None:
        contents = None
        if self.room:
            contents = await _contents(self.kind, self.left, before, self.right, after)
        change = await self.evaluates.changed(
            self.kind,
            part,
            before,
            after,
            contents,
            self.salt,
            patches=self.patches,
            room=self.room,
        )
        if change is None:
            self.noise += 1
        else:
            self.room -= len(change.changes)
            self.changes.append(change)


def _counted(side: Side, names: set[str]) -> Census:
    return {name: listed for name, listed in side.census.items() if name in names}


def equal(before: Document, after: Document) -> bool:
    return before.digest == after.digest and not comparing.attributes(before, after)


async def _contents(
    kind: Kind, left: Side, before: Document, right: Side, after: Document
) -> tuple[bytes, bytes] | None:
    """Both contents, if they differ and are short enough to show."""
    if (
        comparing.ignored(kind, before.path)
        or before.digest == after.digest
        or max(before.size, after.size) > MAX_SHOWN
    ):
        return None
    ours, theirs = left.content(before), right.content(after)
    if ours is None or theirs is None:
        return None
    return b"".join([piece async for piece in ours]), b"".join([piece async for piece in theirs])


def list_changes(before: Census, after: Census) -> list[ListChange]:
    found = []
    for name in sorted({*before, *after}):
        ours, theirs = set(before.get(name, [])), set(after.get(name, []))
        if ours != theirs:
            found.append(
                ListChange(name=name, added=sorted(theirs - ours), removed=sorted(ours - theirs))
            )
    return found
