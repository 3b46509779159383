"""Reading a far side's tar stream (GNU or POSIX.1-2001 pax) member by member, and writing pax
heads. tarfile reads from a blocking file, so it runs in a greenlet on the event loop's thread,
which is suspended until the bytes it wants have arrived.
"""

from __future__ import annotations

import tarfile
from collections.abc import AsyncGenerator, AsyncIterator
from dataclasses import dataclass

from greenlet import GreenletExit, getcurrent, greenlet

from fennox.core.errors import Damaged
from fennox.core.format.manifest import Document

_BLOCK = 256 * 1024  # bytes
_WHOLE = 128 * 1024  # bytes; shorter members come together with their content


@dataclass(frozen=True)
class Member:
    """The head of a member. Its content is in ``whole``, or follows as blocks if long."""

    info: tarfile.TarInfo
    whole: bytes | None = None


Item = Member | bytes


class _Starved:
    """Requests the next block."""


_STARVED = _Starved()


class _Unpacker:
    """Yields results by switching out of its greenlet, and receives the next block in return."""

    def __init__(self) -> None:
        self._block = memoryview(b"")  # the rest of the last block
        self._at = 0  # bytes read so far
        self._ended = False

    def _leave(self, found: Item | _Starved) -> bytes | None:
        parent = getcurrent().parent
        assert parent is not None
        given: bytes | None = parent.switch(found)
        return given

    def read(self, size: int) -> bytes:
        """The blocking read that tarfile calls."""
        if size <= len(self._block):
            data, self._block = bytes(self._block[:size]), self._block[size:]
        else:
            found, missing = [self._block], size - len(self._block)
            while missing and not self._ended:
                block = self._leave(_STARVED)
                self._ended = block is None
                view = memoryview(block or b"")
                found.append(view[:missing])
                self._block = view[missing:]
                missing -= len(found[-1])
            data = b"".join(found)
        self._at += len(data)
        return data

    def tell(self) -> int:
        return self._at

    def seek(self, position: int) -> None:
        """Forward seeks only. A position past the end is detected by the next read."""
        if position < self._at:
            raise tarfile.ReadError("the stream leads backwards")
        while position > self._at and self.read(min(position - self._at, _BLOCK)):
            pass

    def unpack(self) -> None:
        with tarfile.TarFile(fileobj=self, errorlevel=2, encoding="utf-8") as archive:  # type: ignore[arg-type]
            while (info := archive.next()) is not None:
                archive.members.clear()  # type: ignore[attr-defined]  # otherwise it keeps every head it has read
                if info.size < 0:
                    raise tarfile.ReadError("a member of negative size")
                if not info.isreg():
                    self._leave(Member(info))
                elif info.issparse():
                    raise tarfile.ReadError("a member with holes, which was not asked for")
                elif info.size <= _WHOLE:
                    self._leave(Member(info, self._exactly(info.size)))
                else:
                    self._leave(Member(info))
                    for at in range(0, info.size, _BLOCK):
                        self._leave(self._exactly(min(_BLOCK, info.size - at)))

    def _exactly(self, size: int) -> bytes:
        data = self.read(size)
        if len(data) < size:
            raise tarfile.ReadError("the stream ends within a member")
        return data


async def members(source: AsyncIterator[bytes]) -> AsyncGenerator[Item, None]:
    """Yield each member's head and content. An inconsistent stream raises :class:`Damaged`."""
    unpacking = greenlet(_Unpacker().unpack)
    given: bytes | None = None
    try:
        while True:
            try:
                found = unpacking.switch(given) if unpacking else unpacking.switch()
            except (tarfile.TarError, OSError, ValueError, EOFError) as error:
                raise Damaged(
                    f"The machine's tar stream cannot be read ({type(error).__name__}).",
                    "Check the machine's tar.",
                ) from error
            if unpacking.dead:
                return
            if isinstance(found, _Starved):
                given = await anext(source, None)
            else:
                yield found
    finally:
        if unpacking:
            unpacking.throw(GreenletExit)


def tar_head(document: Document) -> bytes:
    """The pax head of one document (POSIX.1-2001)."""
    raw = document.path_bytes().lstrip(b"/").decode("utf-8", "surrogateescape") or "."
    info = tarfile.TarInfo(raw)
    info.type = {"folder": tarfile.DIRTYPE, "link": tarfile.SYMTYPE}.get(
        document.type, tarfile.REGTYPE
    )
    info.size = document.size if document.type in ("file", "output") else 0
    info.mode = document.mode if document.mode is not None else 0o600
    info.uid, info.gid = document.uid or 0, document.gid or 0
    info.uname, info.gname = document.owner or "", document.group or ""
    info.mtime = document.modified or 0
    info.linkname = document.link_bytes().decode("utf-8", "surrogateescape")
    return info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape")
