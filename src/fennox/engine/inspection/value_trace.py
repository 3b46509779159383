"""Following one value through all backups of a system: its states and since when each holds.
Manifests are searched as bytes and only the matching line is parsed, because a system has thousands
of documents and years of backups. Unchanged documents are read only once.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from fennox.core.compare import documents as comparing
from fennox.core.compare.model import DocumentChange
from fennox.core.compare.sensitive import mask
from fennox.core.compare.shapes import MAX_SHOWN
from fennox.core.compare.value_search import Question
from fennox.core.format import manifest
from fennox.core.format.manifest import Document
from fennox.core.format.primitives import canonical
from fennox.core.kinds.filling import calls_secret
from fennox.core.kinds.model import Kind
from fennox.engine.backups.backup_reader import BackupReader, Pieces
from fennox.engine.inspection.backup_comparison import equal, rules_of, same_list
from fennox.engine.processes.evaluator_pool import Evaluates


@dataclass
class StandingValue:
    """One state, found in one or more consecutive backups from ``first`` to ``last`` (ids).
    ``there``: whether the document or list exists. ``values``: result of the expression or list.
    ``change``: how a whole document changed to this state.
    """

    first: str
    last: str
    there: bool
    values: list[Any] = field(default_factory=list)
    said: str = ""
    change: DocumentChange | None = None


@dataclass
class _SeenValue:
    """A document in one backup, with its part."""

    part: str = ""
    leaves: list[str] = field(default_factory=list)
    document: Document | None = None
    content: bytes | None = None


@dataclass
class Trace:
    """Reads backups from oldest to newest. ``salt`` blinds hidden values; fresh for each use."""

    kind: Kind
    question: Question
    salt: bytes
    evaluates: Evaluates
    looked_at: int = 0
    _standings: list[StandingValue] = field(default_factory=list)
    _kind: Kind | None = None
    _seen: _SeenValue = field(default_factory=_SeenValue)
    _pieces: Pieces = field(default_factory=Pieces)

    @property
    def standings(self) -> list[StandingValue]:
        """Newest first, secrets masked."""
        for standing in self._standings:
            standing.values, standing.said = (
                comparing.unsalted(standing.values),
                comparing.unsalted(standing.said),
            )
        return self._standings[::-1]

    async def look(self, reader: BackupReader) -> None:
        """Search the next backup. A backup without the document's part is no evidence either
        way.
        """
        backup = reader.record.reference.backup
        reader.pieces = self._pieces
        if self.question.list:
            self._stand(await self._counted(reader, backup))
            return
        now = await self._find(reader)
        if now is None:
            return
        before, self._seen = self._seen, now
        if self._standings and _same(before.document, now.document):
            now.content = before.content
            self.looked_at += 1
            self._standings[-1].last = backup
            return
        document = now.document
        if document is not None and document.digest and document.size <= MAX_SHOWN:
            now.content = b"".join([piece async for piece in reader.content(document)])
        self._stand(await self._state(backup, before, now))

    async def _counted(self, reader: BackupReader, backup: str) -> StandingValue:
        """A list in a backup. Under changed rules names differ although the machine did not
        change.
        """
        outline = await reader.outline()
        names = outline.census.get(self.question.list)
        state = StandingValue(backup, backup, names is not None, list(names or []))
        before, self._kind = self._kind, rules_of(outline.kind, outline.settings)
        newest = self._standings[-1] if self._standings else None
        if newest is None:
            return state
        if newest.values == state.values:
            state.said = newest.said
        elif not same_list(before, self._kind, self.question.list):
            state.said = (
                f"Counted by version {outline.kind.version} of the kind, whose rules differ from"
                " those before."
            )
        return state

    def _stand(self, state: StandingValue) -> None:
        self.looked_at += 1
        newest = self._standings[-1] if self._standings else None
        if newest is not None and state.change is None and _told(newest) == _told(state):
            newest.last = state.last
        else:
            self._standings.append(state)

    async def _state(self, backup: str, before: _SeenValue, now: _SeenValue) -> StandingValue:
        document = now.document
        state = StandingValue(backup, backup, there=document is not None)
        if document is None:
            return state
        if not (self.question.jsonpath or self.question.line):
            if before.document is not None:
                contents = (before.content, now.content)
                state.change = await self.evaluates.changed(
                    self.kind, now.part, before.document, document, _both(*contents), self.salt
                )
        elif self._is_secret(now.part, document):
            state.said = f"The document is secret: {mask(document.digest or '', self.salt)}"
        elif now.content is None:
            state.said = "The document is too long, or has no content."
        else:
            state.values, state.said = await self.evaluates.values(
                self.kind, self.question, now.content, self.salt
            )
        return state

    def _is_secret(self, part: str, document: Document) -> bool:
        secret = document.secret or calls_secret(self.kind, part, document.path)
        return secret and not comparing.rest_is_open(self.kind, document.path)

    async def _find(self, reader: BackupReader) -> _SeenValue | None:
        """The document in this backup; None if its part was not taken, or perhaps not."""
        needle = b'"path":' + canonical.dump_value(self.question.document)
        known = self._seen.part
        parts = (await reader.outline()).parts
        if known and known not in [part.name for part in parts]:
            return None
        for part in sorted(parts, key=lambda part: part.name != known):
            refs = await reader.leaves(part.root)
            leaves = [ref.id for ref in refs]
            if part.name == known and leaves == self._seen.leaves:
                return _SeenValue(known, leaves, self._seen.document)
            data = b"".join(
                [await reader.chunk(ref.id_bytes(), ref.key_bytes(), ref.length) for ref in refs]
            )
            at = data.find(needle)
            if at >= 0:
                document = manifest.decode_document(
                    data[data.rfind(b"\n", 0, at) + 1 : data.index(b"\n", at)]
                )
                return _SeenValue(part.name, leaves, document)
        return None if reader.record.reference.partial else _SeenValue(known)


def _same(before: Document | None, now: Document | None) -> bool:
    if before is None or now is None:
        return before is now
    return equal(before, now)


def _both(before: bytes | None, now: bytes | None) -> tuple[bytes, bytes] | None:
    return (before, now) if before is not None and now is not None else None


def _told(standing: StandingValue) -> tuple[object, ...]:
    return standing.there, standing.values, standing.said
