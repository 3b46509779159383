"""Connections that the worker of a site carries to the SFTP server, through a socket in a folder
that only the service's account may enter. Each begins with one line that says whom it is from, so
that guesses of one client shut out no other one.
"""

from __future__ import annotations

import asyncio
import os
import socket
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

_NAME = "relayed.sock"
_LONGEST_LINE = 300  # bytes
_LINE_WITHIN = 5.0  # seconds
_WAITING = 16  # connections that are not taken up yet

Serve = Callable[[socket.socket, str], Awaitable[None]]


class RelayedConnections:
    """Listens until closed. ``serve`` is given each connection and whom it is from."""

    def __init__(self, folder: Path, serve: Serve) -> None:
        self._folder, self._serve = folder, serve
        self._listening: socket.socket | None = None
        self._accepting: asyncio.Task[None] | None = None
        self._served: set[asyncio.Task[None]] = set()

    def start(self) -> None:
        """Raises OSError."""
        self._folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        listening = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        with _short(self._folder) as place:
            Path(place).unlink(missing_ok=True)
            listening.bind(place)
        listening.listen(_WAITING)
        listening.setblocking(False)
        self._listening = listening
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
            async with asyncio.timeout(_LINE_WITHIN):
                peer = await _line(connection)
            await self._serve(connection, peer)
        except (OSError, ValueError, TimeoutError):
            connection.close()

    async def close(self) -> None:
        if self._accepting is None or self._listening is None:
            return
        for task in (self._accepting, *self._served):
            task.cancel()
        await asyncio.gather(self._accepting, *self._served, return_exceptions=True)
        self._listening.close()


async def connect(folder: Path, peer: str) -> socket.socket:
    """A connection to whoever listens there. Raises OSError."""
    made = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        made.setblocking(False)
        with _short(folder) as place:
            await asyncio.get_running_loop().sock_connect(made, place)
        await asyncio.get_running_loop().sock_sendall(made, f"{peer}\n".encode())
    except BaseException:
        made.close()
        raise
    return made


async def _line(connection: socket.socket) -> str:
    """Byte by byte, as everything after it belongs to SSH. Raises ValueError."""
    said = bytearray()
    while len(said) < _LONGEST_LINE:
        byte = await asyncio.get_running_loop().sock_recv(connection, 1)
        if byte == b"\n":
            return said.decode()
        if not byte:
            break
        said += byte
    raise ValueError("nobody said whom this is from")


@contextmanager
def _short(folder: Path) -> Iterator[str]:
    """The socket's path by the number of its folder: the address of a socket holds 107 bytes
    (unix(7)), and a state folder may have a longer name.
    """
    number = os.open(folder, os.O_PATH | os.O_DIRECTORY)
    try:
        yield f"/proc/self/fd/{number}/{_NAME}"
    finally:
        os.close(number)
