"""A backup as a restore writes it: with values of the place in place of its own."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass, field

from fennox.core.errors import MendSettings
from fennox.core.format.manifest import Document, Head, Part
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.kinds.model import Kind
from fennox.core.places.placed import Placed
from fennox.core.restoring.plan_inputs import Target
from fennox.engine.backups.backup_reader import BackupReader, Digests, digest_of
from fennox.engine.processes.evaluator_pool import Evaluates


@dataclass(frozen=True)
class PlacedBackup:
    """Reads a backup, but for documents that stay the target's, and with others rewritten as the
    run sheet shows. ``kind``: with its placeholders filled.
    """

    reader: BackupReader
    kind: Kind
    placed: Placed
    evaluates: Evaluates
    _ready: dict[str, bytes] = field(default_factory=dict)  # by digest

    async def head(self) -> Head:
        """With the names and the address that the restored machine will have."""
        head = await self.reader.head()
        return head.model_copy(
            update={
                "census": {**head.census, **self.placed.lists, **self.placed.only},
                "expected": {**head.expected, **self.placed.expected},
            }
        )

    async def part(self, name: str) -> Part:
        return await self.reader.part(name)

    async def documents(self, part: Part) -> AsyncIterator[Document]:
        async for document in self.reader.documents(part):
            if not self.placed.keeps(part.name, document.path):
                yield self._as_written(part.name, document)

    def _as_written(self, part: str, document: Document) -> Document:
        written = self.placed.rewrites(part, document.path)
        if written is None:
            return document
        return document.model_copy(update={"digest": written.digest, "size": written.size})

    async def make_ready(self) -> None:
        """Rewrite every document that must be, before anything is written. Raises ``MendSettings``
        if one would not be what the sheet shows.
        """
        for written in self.placed.rewritten:
            if written.digest not in self._ready:
                content = await self.evaluates.rewritten(
                    self.kind.place,
                    list(self.placed.of_document(written.part, written.path)),
                    await self._held(written.part, written.path),
                )
                if blake2b_256(content) != written.digest:
                    raise MendSettings(
                        f"{written.path} would not be written as this sheet shows it.",
                        "Draft the restore again.",
                    )
                self._ready[written.digest] = content

    async def content(self, document: Document) -> AsyncIterator[bytes]:
        """Each piece is verified before it is yielded. Rewritten ones must be ready."""
        rewritten = any(
            (one.path, one.digest) == (document.path, document.digest)
            for one in self.placed.rewritten
        )
        if rewritten:
            yield self._ready[str(document.digest)]
            return
        async for piece in self.reader.content(document):
            yield piece

    async def kept_secrets(self) -> dict[str, str]:
        """Secret settings as they were at the take, by name."""
        kept = {}
        held = {part.name for part in (await self.reader.head()).parts}
        for part in self.kind.part:
            for source in part.source:
                if source.setting is None or source.document is None or part.name not in held:
                    continue
                async for document in self.reader.documents(await self.reader.part(part.name)):
                    if document.path == source.document:
                        content = [piece async for piece in self.reader.content(document)]
                        kept[source.setting] = b"".join(content).decode()
        return kept

    async def _held(self, part: str, path: str) -> bytes:
        async for document in self.reader.documents(await self.reader.part(part)):
            if document.path == path:
                return b"".join([piece async for piece in self.reader.content(document)])
        raise AssertionError("a rewritten document is one of the backup")

    async def digests(self, parts: list[str]) -> Digests:
        """Fingerprints of what is written."""
        found: Digests = {}
        for part in (await self.reader.head()).parts:
            if part.name in parts:
                found[part.name] = {d.path: digest_of(d) async for d in self.documents(part)}
        return found

    async def sizes(self, parts: list[str]) -> dict[str, dict[str, int]]:
        """Part → path → bytes of what is written; folders and links have none."""
        return {
            part.name: {d.path: d.size async for d in self.documents(part) if d.size}
            for part in (await self.reader.head()).parts
            if part.name in parts
        }


async def added_by(
    backup: PlacedBackup, safety: BackupReader, target: Target, parts: list[str]
) -> list[str]:
    """Documents of ``parts`` that a restore of ``backup`` added to a machine: they are there now,
    and were not when ``safety`` was taken.
    """
    before = {
        document.path
        for part in (await safety.head()).parts
        async for document in safety.documents(part)
    }
    written = {path for held in (await backup.digests(parts)).values() for path in held}
    there = {path for part in parts for path in target.documents.get(part, {})}
    return sorted((written & there) - before)
