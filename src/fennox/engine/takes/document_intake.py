"""Storing documents as they are read; in a long take other processes carve the short ones."""

from __future__ import annotations

import asyncio
from collections import deque
from contextlib import aclosing
from dataclasses import dataclass, field

from fennox.core.errors import TryLater
from fennox.core.format.carving import Carved
from fennox.core.format.manifest import Document
from fennox.engine.backups.backup_writer import BackupWriter, Content
from fennox.engine.journal import Journal
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.reading.capture import Capture, Captured
from fennox.engine.reading.documents import read_documents
from fennox.engine.reading.inquiry import Inquiry
from fennox.links.base import Link

_LONG = 8 * 1024 * 1024  # bytes of short documents after which other processes help
_HANDFUL = 2 * 1024 * 1024  # bytes carved together
_AT_ONCE = 4  # batches carved while reading continues


@dataclass
class Gathered:
    """The documents of a backup, by part and path."""

    documents: dict[str, dict[str, Document]] = field(default_factory=dict)
    count: int = 0
    bytes: int = 0

    def of(self, part: str) -> list[Document]:
        return list(self.documents.get(part, {}).values())

    def keep(self, part: str, document: Document) -> None:
        """A document read again because it changed replaces the first."""
        held = self.documents.setdefault(part, {})
        before = held.get(document.path)
        if before is not None:
            self.count -= 1
            self.bytes -= before.size
        held[document.path] = document
        self.count += 1
        self.bytes += document.size

    def replace(self, part: str, document: Document, stored: Document) -> None:
        """Record the stored form of a document, unless it was read again since."""
        if self.documents[part][document.path] is document:
            self.documents[part][document.path] = stored
            self.bytes += stored.size - document.size


async def gather(
    writer: BackupWriter,
    link: Link | None,
    capture: Capture,
    parts: list[str],
    journal: Journal,
    inquiry: Inquiry,
    *,
    apart: bool,
    carvers: Carvers | None,
) -> Gathered:
    """Read the parts and store what is new. ``apart``: store secrets under random chunk keys, made
    here.
    """
    gathered = Gathered()
    carving = _Carving(writer, capture, gathered, carvers) if carvers is not None else None
    try:
        async with aclosing(read_documents(link, capture, parts, inquiry)) as documents:
            async for captured in documents:
                document = captured.document
                gathered.keep(captured.part, document)
                if captured.taken_over:
                    _rely_on(writer, document)
                elif document.type in ("file", "output"):
                    secret, whole = apart and captured.secret, captured.whole
                    if carving is None or whole is None or secret or not carving.takes(len(whole)):
                        content = await _stored(writer, captured, apart=secret)
                        gathered.replace(captured.part, document, _with(document, content, capture))
                    else:
                        await carving.add(captured, whole)
                await journal.progress(documents=gathered.count, bytes=gathered.bytes)
        if carving is not None:
            await carving.finish()
    finally:
        if carving is not None:
            carving.give_up()
    return gathered


async def _stored(writer: BackupWriter, captured: Captured, *, apart: bool) -> Content:
    if captured.whole is not None:
        return await writer.add_whole(captured.whole, apart=apart)
    return await writer.add_content(captured.content, apart=apart)


def _with(document: Document, content: Content, capture: Capture) -> Document:
    found = {"size": content.size, "digest": content.digest, "chunks": content.chunks}
    return document.model_copy(update={**found, "evidence": _evidence(capture, document.path)})


def _evidence(capture: Capture, path: str) -> bool | None:
    if path in capture.passed_over:
        return False
    return True if path in capture.evidence.contents else None


def _rely_on(writer: BackupWriter, document: Document) -> None:
    if not all(writer.holds(bytes.fromhex(key.id)) for key in document.chunks):
        raise TryLater(
            f"What {document.path} relied on was found damaged.", "Take the backup again."
        )


_Handful = list[tuple[Captured, bytes]]


@dataclass
class _Carving:
    """Send short documents to other processes in batches; store the results in reading order."""

    writer: BackupWriter
    capture: Capture
    gathered: Gathered
    carvers: Carvers
    _seen: int = 0  # bytes of short documents so far
    _held: _Handful = field(default_factory=list)
    _held_bytes: int = 0
    _away: deque[tuple[_Handful, asyncio.Task[list[Carved]]]] = field(default_factory=deque)

    def takes(self, size: int) -> bool:
        """Whether this take is long enough to use other processes."""
        self._seen += size
        return self._seen > _LONG

    async def add(self, captured: Captured, whole: bytes) -> None:
        self._held.append((captured, whole))
        self._held_bytes += len(whole)
        if self._held_bytes >= _HANDFUL:
            self._send()
            while len(self._away) > _AT_ONCE:
                await self._store()

    async def finish(self) -> None:
        self._send()
        while self._away:
            await self._store()

    def give_up(self) -> None:
        """Drop batches still being carved."""
        for _, task in self._away:
            task.cancel()

    def _send(self) -> None:
        contents = [whole for _, whole in self._held]
        self._away.append(
            (self._held, asyncio.create_task(self.carvers.carve(contents, self.writer.recipe())))
        )
        self._held, self._held_bytes = [], 0

    async def _store(self) -> None:
        handful, task = self._away.popleft()
        for (captured, whole), carved in zip(handful, await task, strict=True):
            content = await self.writer.add_carved(whole, carved)
            stored = _with(captured.document, content, self.capture)
            self.gathered.replace(captured.part, captured.document, stored)
