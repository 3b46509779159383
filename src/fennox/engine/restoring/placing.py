"""Which values of the place a restore writes, found when it is drafted."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

from fennox.core.format.manifest import Document, Finding
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.kinds.expressions import MAX_EVIDENCE, fitting
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Expression
from fennox.core.places.place_choices import PlaceDecisions, PlaceInputs
from fennox.core.places.placed import KeptDocument, Placed, RewrittenDocument
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring.plan_inputs import Target
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.processes.drawn_facts import Heard
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading.capture import Captured

At = tuple[str, str]  # part and path


@dataclass(frozen=True)
class PlaceWishes:
    """What decides about values of the place. ``given``: a person's choices by name."""

    purpose: RestorePurpose
    same_machine: bool
    new_name: str | None
    given: Mapping[str, str]


def fits_place(kind: Kind) -> Callable[[str], bool]:
    """Whether a document holds values of the place."""
    return fitting([pattern for rule in kind.place for pattern in rule.in_])


def fits_real(kind: Kind) -> Callable[[str], bool]:
    """Whether a document tells which values exist on a machine."""
    return fitting([one.in_ for rule in kind.place for one in rule.real])


@dataclass
class PlaceContents:
    """Contents of a target's documents that hold values of the place (``held``), or tell which
    exist (``real``). ``kind``: with its placeholders filled.
    """

    kind: Kind
    held: dict[At, bytearray] = field(default_factory=dict)
    real: dict[str, bytearray] = field(default_factory=dict)

    def keeper(self, captured: Captured) -> bytearray | None:
        """Where the content of this document goes; None: it is not needed."""
        path = captured.document.path
        kept = bytearray()
        if captured.document.type == "link":
            kept += link_text(captured.document)
        if fits_place(self.kind)(path) and captured.document.type != "folder":
            self.held[captured.part, path] = kept
        elif fits_real(self.kind)(path):
            self.real[path] = kept
        else:
            return None
        return kept


def link_text(document: Document) -> bytes:
    return f"a link to {document.link}\n".encode("utf-8", "surrogateescape")


@dataclass
class _Backup:
    reader: BackupReader
    kind: Kind
    parts: list[str]

    async def documents(self, fits: Callable[[str], bool]) -> dict[At, tuple[Document, bytes]]:
        """Documents whose paths match, with their content. What is too long is left out."""
        found = {}
        for part in (await self.reader.head()).parts:
            if part.name not in self.parts:
                continue
            async for document in self.reader.documents(part):
                if fits(document.path) and document.size <= MAX_EVIDENCE:
                    found[part.name, document.path] = document, await self._content(document)
        return found

    async def _content(self, document: Document) -> bytes:
        if document.type == "link":
            return link_text(document)
        if document.type == "folder":
            return b""
        return b"".join([piece async for piece in self.reader.content(document)])


async def place(
    reader: BackupReader,
    kind: Kind,
    parts: list[str],
    target: Target,
    wishes: PlaceWishes,
    evaluates: Evaluates,
) -> tuple[Placed, list[Finding]]:
    """``kind``: with its placeholders filled. ``parts``: those that are written as documents."""
    if not kind.place:
        return Placed(), []
    backup = _Backup(reader, kind, parts)
    held = await backup.documents(fits_place(kind))
    held = {at: one for at, one in held.items() if one[0].type != "folder"}
    decided = await evaluates.places(
        PlaceInputs(
            rules=kind.place,
            purpose=wishes.purpose,
            same_machine=wishes.same_machine,
            new_name=wishes.new_name,
            given=wishes.given,
            backup={at: content for at, (_, content) in held.items()},
            target={at: bytes(one) for at, one in target.places.items() if at[0] in parts},
            real={path: bytes(content) for path, content in target.real.items()},
        )
    )
    placed = Placed(
        given=dict(wishes.given), values=decided.values, kept=list(_kept(decided, target))
    )
    for at, (document, content) in sorted(held.items()):
        written = await _rewritten(kind, placed, at, document, content, evaluates)
        if written is not None:
            placed.rewritten.append(written)
    await _come_out(placed, backup, target, evaluates)
    return placed, decided.findings


def _kept(decided: PlaceDecisions, target: Target) -> Iterable[KeptDocument]:
    for value in decided.values:
        for entry in value.entries if value.whole else []:
            if entry.after != entry.backup or value.choice == "target":
                yield KeptDocument(
                    part=entry.part,
                    path=entry.document,
                    target=target.documents.get(entry.part, {}).get(entry.document),
                )


async def _rewritten(
    kind: Kind,
    placed: Placed,
    at: At,
    document: Document,
    content: bytes,
    evaluates: Evaluates,
) -> RewrittenDocument | None:
    entries = list(placed.of_document(*at))
    if not entries or document.type not in ("file", "output") or placed.keeps(*at):
        return None
    new = await evaluates.rewritten(kind.place, entries, content)
    if new == content:
        return None
    after = document.model_copy(update={"digest": blake2b_256(new), "size": len(new)})
    change = await evaluates.changed(
        kind, at[0], document, after, (content, new), secrets.token_bytes(16)
    )
    if change is None:  # it differs only in what the kind calls noise
        return None
    return RewrittenDocument(
        part=at[0], path=at[1], digest=str(after.digest), size=len(new), change=change
    )


async def _come_out(placed: Placed, backup: _Backup, target: Target, evaluates: Evaluates) -> None:
    """Count the lists anew that are drawn from documents which are written otherwise."""
    touched = {(one.part, one.path) for one in placed.rewritten}
    touched |= {(one.part, one.path) for one in placed.kept}
    kind = backup.kind

    def concerned(listed: Iterable[Expression | None]) -> bool:
        found = [one.in_ for one in listed if one is not None]
        fits = fitting(found)
        return any(fits(path) for _, path in touched)

    lists = {name: listed for name, listed in kind.census.items() if concerned(listed)}
    expected = kind.expected
    sets_face = concerned([expected.address, expected.account, expected.key])
    if not lists and not sets_face:
        return
    named = [one.in_ for listed in lists.values() for one in listed if one.names is None]
    face = (expected.address, expected.account, expected.key)
    named += [one.in_ for one in face if one is not None and sets_face]
    everything = _Backup(
        backup.reader, kind, [part.name for part in (await backup.reader.head()).parts]
    )
    held = await everything.documents(fitting(named))
    contents = {path: content for (_, path), (one, content) in held.items() if one.type != "link"}
    paths = await _paths(everything)
    for kept in placed.kept:
        contents.pop(kept.path, None)
        paths.discard(kept.path)
        if kept.target is not None:
            paths.add(kept.path)
            contents[kept.path] = bytes(target.places.get((kept.part, kept.path), b""))
    for one in placed.rewritten:
        if one.path in contents:
            contents[one.path] = await evaluates.rewritten(
                kind.place, list(placed.of_document(one.part, one.path)), contents[one.path]
            )
    only = kind.model_copy(
        update={"census": lists, "completeness": [], "doubts": [], "references": []}
    )
    told = await evaluates.told(Heard(only, [], contents, frozenset(paths), []))
    placed.lists = told.counted()
    placed.expected = told.expected if sets_face else {}


async def _paths(backup: _Backup) -> set[str]:
    return {
        document.path
        for part in (await backup.reader.head()).parts
        async for document in backup.reader.documents(part)
    }
