"""Connections that the worker of a site carries to the servers of the receiving end, each through a
socket in a folder that only the service's account may enter. Every connection begins with one line
that says whom it is from, so that guesses of one client shut out no other one.
"""

from __future__ import annotations

import asyncio
import json
import os
import socket
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

from fennox.core.evidence.pushes import CarriedProtocol

LONGEST_LINE = 1000  # bytes
LINE_WITHIN = 5.0  # seconds
WAITING = 16  # connections that are not taken up yet

Serve = Callable[[socket.socket, str], Awaitable[None]]


@dataclass(frozen=True)
class Whence:
    """Where a carried connection comes from. For FTP with TLS: ``host`` and ``ports`` are what the
    systems of the site are told for data connections (``ports`` as FIRST-LAST), and ``port`` is the
    one that this connection came to; 0: it is no data connection.
    """

    peer: str
    site: str
    host: str = ""
    ports: str = ""
    port: int = 0

    def __str__(self) -> str:
        return f"{self.peer} at {self.site}"

    def line(self) -> bytes:
        return json.dumps(asdict(self)).encode() + b"\n"

    @classmethod
    def of(cls, line: bytes) -> Whence:
        """Raises ValueError."""
        try:
            return cls(**json.loads(line))
        except TypeError as error:
            raise ValueError("nobody said whom this is from") from error


class RelayedConnections:
    """Listens until closed. ``serve`` is given each connection and whom it is from."""

    def __init__(self, folder: Path, serve: Serve) -> None:
        self._folder, self._serve = folder, serve
        self._listening: socket.socket | None = None
        self._accepting: asyncio.Task[None] | None = None
        self._served: set[asyncio.Task[None]] = set()

    def start(self) -> None:
        """Raises OSError."""
        self._listening = listening = listen(self._folder, "sftp")
        self._accepting = asyncio.create_task(self._accept(listening))

    async def _accept(self, listening: socket.socket) -> None:
        while True:
            connection, _ = await asyncio.get_running_loop().sock_accept(listening)
            task = asyncio.create_task(self._begin(connection))
            self._served.add(task)
            task.add_done_callback(self._served.discard)

    async def _begin(self, connection: socket.socket) -> None:
        connection.setblocking(False)
        try:
            async with asyncio.timeout(LINE_WITHIN):
                whence = Whence.of(await _line(connection))
            await self._serve(connection, str(whence))
        except (OSError, ValueError, TimeoutError):
            connection.close()

    async def close(self) -> None:
        if self._accepting is None or self._listening is None:
            return
        for task in (self._accepting, *self._served):
            task.cancel()
        await asyncio.gather(self._accepting, *self._served, return_exceptions=True)
        self._listening.close()


def listen(folder: Path, protocol: CarriedProtocol) -> socket.socket:
    """Does not block. Raises OSError."""
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    listening = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    with _short(folder, protocol) as place:
        Path(place).unlink(missing_ok=True)
        listening.bind(place)
    listening.listen(WAITING)
    listening.setblocking(False)
    return listening


async def connect(folder: Path, protocol: CarriedProtocol, whence: Whence) -> socket.socket:
    """A connection to whoever listens there. Raises OSError."""
    made = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        made.setblocking(False)
        with _short(folder, protocol) as place:
            await asyncio.get_running_loop().sock_connect(made, place)
        await asyncio.get_running_loop().sock_sendall(made, whence.line())
    except BaseException:
        made.close()
        raise
    return made


async def _line(connection: socket.socket) -> bytes:
    """Byte by byte, as everything after it belongs to SSH. Raises ValueError."""
    said = bytearray()
    while len(said) < LONGEST_LINE:
        byte = await asyncio.get_running_loop().sock_recv(connection, 1)
        if byte == b"\n":
            return bytes(said)
        if not byte:
            break
        said += byte
    raise ValueError("nobody said whom this is from")


@contextmanager
def _short(folder: Path, protocol: CarriedProtocol) -> Iterator[str]:
    """The socket's path by the number of its folder: the address of a socket holds 107 bytes
    (unix(7)), and a state folder may have a longer name.
    """
    number = os.open(folder, os.O_PATH | os.O_DIRECTORY)
    try:
        yield f"/proc/self/fd/{number}/relayed-{protocol}.sock"
    finally:
        os.close(number)
