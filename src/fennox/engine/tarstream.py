"""A far side's tar stream, read member by member (POSIX.1-2001 pax, as GNU tar writes it).

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

_BLOCK = 256 * 1024  # bytes
_AHEAD = 8  # items

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
        self._held = bytearray()
        self._ended = False
        self._gone = False
        self._waiting: concurrent.futures.Future[Any] | None = None
        self.out: asyncio.Queue[Item | Exception | None] = asyncio.Queue(_AHEAD)
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
        while len(self._held) < size and not self._ended:
            block = self._in_loop(self._next_block())
            if block is None:
                self._ended = True
            else:
                self._held += block
        piece = bytes(self._held[:size])
        del self._held[:size]
        return piece

    def _put(self, item: Item | Exception | None) -> None:
        self._in_loop(self.out.put(item))

    def run(self) -> None:
        """The thread."""
        try:
            try:
                self._unpack()
                self._put(None)
            except (tarfile.TarError, FennoxError, OSError, ValueError, EOFError) as error:
                self._put(error)
        except _Abandoned:
            return  # nobody waits for the rest
        finally:
            self._loop.call_soon_threadsafe(self.finished.set)

    def _unpack(self) -> None:
        with tarfile.open(fileobj=self, mode="r|", errorlevel=2, encoding="utf-8") as archive:  # type: ignore[call-overload]
            for info in archive:
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
        while (item := await unpacker.out.get()) is not None:
            if isinstance(item, FennoxError):
                raise item
            if isinstance(item, Exception):
                raise Damaged(
                    f"The machine's tar stream cannot be read ({type(item).__name__}).", "Look at the machine's tar."
                ) from item
            yield item
    finally:
        await unpacker.abandon()
