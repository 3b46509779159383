"""A far side's tar stream, read member by member, and the heads of one for it (POSIX.1-2001 pax, as GNU tar writes it).

tarfile reads from a blocking file, so each stream has a thread of its own that pulls blocks out of the event loop and
pushes what it finds back into it; neither side runs ahead by more than a few blocks.
"""

from __future__ import annotations

import asyncio
import concurrent.futures
import tarfile
import threading
from collections.abc import AsyncGenerator, AsyncIterator, Coroutine
from dataclasses import dataclass
from typing import Any, TypeVar

from fennox.core.errors import Damaged, FennoxError
from fennox.core.format.manifest import Document

_BLOCK = 256 * 1024  # bytes
_AHEAD = 4  # batches
_BATCH_ITEMS, _BATCH_BYTES = 128, 1024 * 1024  # that go from the thread to the event loop at one time

T = TypeVar("T")


@dataclass(frozen=True)
class Member:
    """The head of a member; its content follows as blocks of bytes."""

    info: tarfile.TarInfo


Item = Member | bytes


class _Abandoned(Exception):
    """Whoever read the members has gone."""


class _Unpacker:
    def __init__(self, source: AsyncIterator[bytes]) -> None:
        self._source = source
        self._loop = asyncio.get_running_loop()
        self._block = memoryview(b"")  # what is left of the block that came last
        self._batch: list[Item] = []
        self._batch_bytes = 0
        self._ended = False
        self._gone = False
        self._waiting: concurrent.futures.Future[Any] | None = None
        self.out: asyncio.Queue[list[Item] | Exception | None] = asyncio.Queue(_AHEAD)
        self.finished = asyncio.Event()

    def _in_loop(self, work: Coroutine[Any, Any, T]) -> T:
        """Called in the thread: have the event loop do something, and wait for it."""
        if self._gone:
            work.close()
            raise _Abandoned
        waiting = asyncio.run_coroutine_threadsafe(work, self._loop)
        self._waiting = waiting
        try:
            return waiting.result()
        except (concurrent.futures.CancelledError, asyncio.CancelledError) as error:
            raise _Abandoned from error

    async def _next_block(self) -> bytes | None:
        return await anext(self._source, None)

    def read(self, size: int) -> bytes:
        """The blocking read that tarfile calls."""
        found: list[memoryview] = []
        while size and not self._ended:
            if not self._block:
                self._flush()  # the far side may be slow, and what is known need not wait for it
                block = self._in_loop(self._next_block())
                self._ended = block is None
                self._block = memoryview(block or b"")
            piece, self._block = self._block[:size], self._block[size:]
            found.append(piece)
            size -= len(piece)
        return bytes(found[0]) if len(found) == 1 else b"".join(found)

    def _put(self, item: Item) -> None:
        self._batch.append(item)
        self._batch_bytes += len(item) if isinstance(item, bytes) else 0
        if len(self._batch) >= _BATCH_ITEMS or self._batch_bytes >= _BATCH_BYTES:
            self._flush()

    def _flush(self) -> None:
        if self._batch:
            batch, self._batch, self._batch_bytes = self._batch, [], 0
            self._in_loop(self.out.put(batch))

    def run(self) -> None:
        """The thread."""
        try:
            try:
                self._unpack()
                self._flush()
                self._in_loop(self.out.put(None))
            except (tarfile.TarError, FennoxError, OSError, ValueError, EOFError) as error:
                self._flush()
                self._in_loop(self.out.put(error))
        except _Abandoned:
            return  # nobody waits for the rest
        finally:
            self._loop.call_soon_threadsafe(self.finished.set)

    def _unpack(self) -> None:
        with tarfile.open(  # type: ignore[call-overload]
            fileobj=self, mode="r|", errorlevel=2, encoding="utf-8", bufsize=_BLOCK
        ) as archive:
            for info in archive:
                archive.members.clear()  # it would keep every head that it has read
                self._put(Member(info))
                file = archive.extractfile(info) if info.isreg() else None
                while file is not None and (block := file.read(_BLOCK)):
                    self._put(block)

    async def abandon(self) -> None:
        self._gone = True
        if self._waiting is not None:
            self._waiting.cancel()
        await self.finished.wait()


async def members(source: AsyncIterator[bytes]) -> AsyncGenerator[Item, None]:
    """Yield each member's head, then its content in blocks. A stream that lies about itself is :class:`Damaged`."""
    unpacker = _Unpacker(source)
    threading.Thread(target=unpacker.run, name="tar", daemon=True).start()
    try:
        while (found := await unpacker.out.get()) is not None:
            if isinstance(found, FennoxError):
                raise found
            if isinstance(found, Exception):
                raise Damaged(
                    f"The machine's tar stream cannot be read ({type(found).__name__}).", "Look at the machine's tar."
                ) from found
            for item in found:
                yield item
    finally:
        await unpacker.abandon()


def tar_head(document: Document) -> bytes:
    """The pax head of one document (POSIX.1-2001)."""
    raw = document.path_bytes().lstrip(b"/").decode("utf-8", "surrogateescape") or "."
    info = tarfile.TarInfo(raw)
    info.type = {"folder": tarfile.DIRTYPE, "link": tarfile.SYMTYPE}.get(document.type, tarfile.REGTYPE)
    info.size = document.size if document.type in ("file", "output") else 0
    info.mode = document.mode if document.mode is not None else 0o600
    info.uid, info.gid = document.uid or 0, document.gid or 0
    info.uname, info.gname = document.owner or "", document.group or ""
    info.mtime = document.modified or 0
    info.linkname = document.link_bytes().decode("utf-8", "surrogateescape")
    return info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape")
