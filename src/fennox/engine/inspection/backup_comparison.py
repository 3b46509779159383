"""Two backups, or a backup and the live system, laid side by side. Only documents that differ are
read.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import aclosing
from dataclasses import dataclass
from functools import lru_cache

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
from fennox.engine.reading.capture import Capture, identify, once
from fennox.engine.reading.documents import read_documents
from fennox.links.base import Link

_MAX_HELD = 256 * 1024 * 1024  # bytes of a live system's documents that are held for a comparison


@dataclass(frozen=True)
class Side:
    """A backup, or a live system, with its documents by part and path. ``content``: None where it
    is not at hand.

    ``rules``: the kind as it stood, which says what was asked for and how lists are drawn; None: it
    cannot be read.
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
    """Whether a census list is drawn by the same rules."""
    return (
        before is not None
        and after is not None
        and before.census.get(name) == after.census.get(name)
    )


def _same_sources(before: Kind | None, after: Kind | None, part: str) -> bool:
    """Whether a part reads the same."""
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
    """The system as it is now, read once; held is only what differs from ``against``. Stores
    nothing.

    ``counts``: the id of the machine that counts as the system now; the backup may be of the one
    before it.
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
        part.name: {} for part in kind.part if part.name in against.parts
    }
    held: dict[str, bytes] = {}
    room = _MAX_HELD
    async with aclosing(read_documents(link, capture, list(parts))) as documents:
        async for captured in documents:
            document, digest, size, kept = captured.document, Digest(), 0, bytearray()
            async for block in captured.content:
                digest.update(block)
                size += len(block)
                if size <= MAX_SHOWN:
                    kept += block
            if document.type in ("file", "output"):
                document = document.model_copy(update={"digest": digest.hexdigest(), "size": size})
            known = against.parts[captured.part].get(document.path)
            if (
                document.digest
                and known is not None
                and known.digest != document.digest
                and size <= len(kept) <= room
            ):
                held[document.digest] = bytes(kept)
                room -= size
            parts[captured.part][document.path] = document

    def content(document: Document) -> AsyncIterator[bytes] | None:
        data = held.get(document.digest or "")
        return once(data) if data is not None else None

    census = (await capture.told(list(parts), evaluates)).counted()
    return Side(parts, census, kind.name, machine.id, capture.kind, content)


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
    """What changed from one side to the other. ``kind``: whose rules for noise, order and secrets
    count.

    Parts that only one of them took are named, and not compared. ``salt`` blinds hidden values;
    fresh for each use. ``patches``: every document that changed carries a JSON Patch (RFC 6902) as
    well. ``only``: patterns of paths; of what does not fit nothing is told, and no list is compared
    then.
    """
    if left.kind != right.kind:
        raise BadInput(
            f"One backup is of the kind {left.kind}, the other of {right.kind}.",
            "Compare two of the same kind.",
        )
    found: list[DocumentChange] = []
    same = noise = 0
    room = MOST_CHANGES
    fits = fitting(only)
    shared = [name for name in left.parts if name in right.parts]
    for part in shared:
        ours, theirs = left.parts[part], right.parts[part]
        for path in filter(fits, sorted({*ours, *theirs})):
            if path not in theirs:
                found.append(comparing.only_there("removed", part, ours[path], kind))
            elif path not in ours:
                found.append(comparing.only_there("added", part, theirs[path], kind))
            elif equal(ours[path], theirs[path]):
                same += 1
            else:
                contents = (
                    await _contents(kind, left, ours[path], right, theirs[path]) if room else None
                )
                change = await evaluates.changed(
                    kind, part, ours[path], theirs[path], contents, salt, patches=patches, room=room
                )
                if change is None:
                    noise += 1
                else:
                    room -= len(change.changes)
                    found.append(change)
    if not found and not same and not noise and "*" not in only:
        raise NotFound(
            f"Neither side holds a document like {', '.join(map(printable, only))}.",
            "`fennox backup show BACKUP --documents` lists them; * stands for anything.",
        )
    lists = {*left.census, *right.census}
    same_lists = {name for name in lists if same_list(left.rules, right.rules, name)}
    return Comparison(
        documents=found,
        lists=(
            list_changes(*(_counted(side, same_lists) for side in (left, right)))
            if "*" in only
            else []
        ),
        other_lists=sorted(lists - same_lists) if "*" in only else [],
        other_sources=[name for name in shared if not _same_sources(left.rules, right.rules, name)],
        same=same,
        noise=noise,
        only_left_parts=[name for name in left.parts if name not in right.parts],
        only_right_parts=[name for name in right.parts if name not in left.parts],
    )


def _counted(side: Side, names: set[str]) -> Census:
    return {name: listed for name, listed in side.census.items() if name in names}


def equal(before: Document, after: Document) -> bool:
    return before.digest == after.digest and not comparing.attributes(before, after)


async def _contents(
    kind: Kind, left: Side, before: Document, right: Side, after: Document
) -> tuple[bytes, bytes] | None:
    """Both contents, where they differ and are short enough to be shown."""
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
