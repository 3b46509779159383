"""Files of a machine without GNU tar: read one by one over SFTP, and restored the same way."""

from __future__ import annotations

import os
import tarfile
from collections.abc import AsyncGenerator, AsyncIterator
from contextlib import aclosing

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import Document
from fennox.core.kinds.expressions import wanted
from fennox.core.kinds.sources import PartModel, Source
from fennox.core.names import printable
from fennox.engine.backups.backup_reader import ReadsContent
from fennox.engine.journal import Journal
from fennox.engine.reading.capture import Capture, Captured, watched
from fennox.engine.reading.document_heads import document_of
from fennox.links.base import FarFile, FarFileKind, RemoteFiles, Shell

_TYPES = {
    "file": tarfile.REGTYPE,
    "folder": tarfile.DIRTYPE,
    "link": tarfile.SYMTYPE,
    "other": tarfile.FIFOTYPE,
}
_KINDS: dict[str, FarFileKind] = {
    "file": "file",
    "output": "file",
    "folder": "folder",
    "link": "link",
}
_WHOLE = 128 * 1024  # bytes; shorter files are passed on in one piece


async def read_files(
    shell: Shell,
    capture: Capture,
    part: PartModel,
    source: Source,
    patterns: list[str],
    without: list[str],
    places: list[str],
) -> AsyncGenerator[Captured, None]:
    """Every wanted file below the places; one that changed during reading is read again, once."""
    if source.settled:
        raise FarSideFailed(
            f"The part {part.name} waits until its files have been finished, which needs GNU tar"
            " and find there.",
            "Install them on the machine.",
        )
    roots = [
        place
        for place in places
        if not any(place.startswith(other.rstrip("/") + "/") for other in places)
    ]
    async with shell.files() as files:
        reading = _SftpReading(files, capture, part, source)
        found = False
        for root in roots:
            async with aclosing(files.walk(os.fsencode(root))) as seen:
                async for far in seen:
                    found = True
                    head = _head(far, capture)
                    if (
                        head is None
                        or not wanted(patterns, head.path)
                        or wanted(without, head.path)
                    ):
                        continue
                    async with aclosing(reading.read(far, head)) as documents:
                        async for captured in documents:
                            yield captured
        if not found:
            capture.found_nothing(part.name, patterns)
        for path in reading.changed[:]:
            again = await files.look(path)
            if again is not None and (head := _head(again, capture)) is not None:
                async with aclosing(reading.read(again, head)) as documents:
                    async for captured in documents:
                        yield captured
        twice = {os.fsdecode(path) for path in reading.changed if reading.changed.count(path) > 1}
        if twice:
            capture.moved |= twice
            capture.moved_twice(part.name, ", ".join(printable(path) for path in sorted(twice)[:5]))


class _SftpReading:
    def __init__(
        self, files: RemoteFiles, capture: Capture, part: PartModel, source: Source
    ) -> None:
        self._files, self._capture, self._part, self._source = files, capture, part, source
        self.changed: list[bytes] = []  # once per change during reading

    async def read(self, far: FarFile, head: Document) -> AsyncGenerator[Captured, None]:
        """The document; None if the file disappeared since the listing."""
        if far.kind != "file":
            yield watched(self._capture, self._part, self._source, head, b"")
            return
        if await self._files.look(far.path) is None:
            return
        async with aclosing(self._files.read(far.path)) as blocks:
            if far.size <= _WHOLE:
                content: AsyncIterator[bytes] | bytes = b"".join(
                    [block async for block in _bounded(blocks, head)]
                )
            else:
                content = blocks
            captured = watched(self._capture, self._part, self._source, head, content)
            yield captured
            async for _ in captured.content:
                pass  # the part of the content not consumed by the reader
        now = await self._files.look(far.path)
        if now != far:
            self.changed.append(far.path)


async def _bounded(blocks: AsyncIterator[bytes], head: Document) -> AsyncIterator[bytes]:
    """A file listed as short must not stream endlessly."""
    size = 0
    async for block in blocks:
        size += len(block)
        if size > 2 * _WHOLE:
            raise FarSideFailed(
                f"{printable(head.path)} grows faster than it can be read.", "Leave it out."
            )
        yield block


def _head(far: FarFile, capture: Capture) -> Document | None:
    info = tarfile.TarInfo(os.fsdecode(far.path.lstrip(b"/")) or ".")
    info.type, info.size, info.mode, info.mtime = _TYPES[far.kind], far.size, far.mode, far.modified
    info.uid, info.gid, info.linkname = far.uid, far.gid, os.fsdecode(far.link)
    return document_of(info, capture)


async def put_files(
    shell: Shell, reader: ReadsContent, documents: list[Document], folder: str, journal: Journal
) -> int:
    """Write documents below ``folder``, each atomically, with numeric owners. Returns the number of
    bytes. Raises FarSideFailed if the far side holds another number of one.
    """
    size = 0
    async with shell.files() as files:
        for number, document in enumerate(documents, start=1):
            await journal.progress(documents=number, bytes=size)
            await _put(
                files, reader, document, os.fsencode(folder.rstrip("/")) + document.path_bytes()
            )
            size += document.size
        # a folder's owner and mode are set last, since some folders then refuse writes
        for document in reversed(documents):
            if document.type == "folder":
                path = os.fsencode(folder.rstrip("/")) + document.path_bytes()
                await files.set(path, _like(document, path))
    return size


async def _put(files: RemoteFiles, reader: ReadsContent, document: Document, path: bytes) -> None:
    await _make_parents(files, path)
    there = await files.look(path)
    if document.type == "folder":
        if there is None:
            await files.make_folder(path)
    elif document.type == "link":
        if there is None or there.link != document.link_bytes():
            await files.make_link(path, document.link_bytes())
    else:
        await files.write(path, reader.content(document), _like(document, path))
        written = await files.look(path)
        if written is None or written.size != document.size:
            held = "none" if written is None else str(written.size)
            raise FarSideFailed(
                f"Of {document.path} {document.size} bytes were sent, but the target holds {held}.",
                "Look at the target's free space, then continue with the sheet.",
            )


async def _make_parents(files: RemoteFiles, path: bytes) -> None:
    missing = []
    above = path.rpartition(b"/")[0]
    while above and await files.look(above) is None:
        missing.append(above)
        above = above.rpartition(b"/")[0]
    for folder in reversed(missing):
        await files.make_folder(folder)


def _like(document: Document, path: bytes) -> FarFile:
    mode = document.mode if document.mode is not None else 0o600
    kind = _KINDS[document.type]
    return FarFile(
        path,
        kind,
        document.size,
        mode,
        document.uid or 0,
        document.gid or 0,
        document.modified or 0,
    )
