"""FTP connections that the worker of a site carries. It reads nothing of them: the port of a data
connection is one of its own, and which session that belongs to is known here alone.
"""

from __future__ import annotations

import ipaddress
import secrets
import socket
from contextlib import suppress
from pathlib import Path
from typing import Any

from pyftpdlib.handlers import FTPHandler
from pyftpdlib.ioloop import AsyncChat, IOLoop
from pyftpdlib.servers import FTPServer

from fennox.drop import relayed
from fennox.drop.relayed import Whence

_DATA_WITHIN = 30  # seconds


class CarriedSocket(socket.socket):
    """Names whom it is from as its peer."""

    whence: Whence

    def getpeername(self) -> tuple[str, int]:
        return str(self.whence), 0

    def getsockname(self) -> tuple[str, int]:
        return self.whence.host, 0


class CarriedServer(FTPServer):  # type: ignore[misc]
    """Gives ``handler`` the connections that arrive in the folder. Raises OSError."""

    def __init__(self, folder: Path, handler: type[FTPHandler], loop: IOLoop) -> None:
        super().__init__(relayed.listen(folder, "ftps"), handler, loop, relayed.WAITING)
        self._waiting: dict[tuple[str, int], CarriedChannel] = {}

    def handle_accepted(self, sock: socket.socket, addr: object) -> None:
        _FirstLine(sock, self)

    def begin(self, carried: CarriedSocket) -> None:
        whence = carried.whence
        if not whence.port:
            super().handle_accepted(carried, (str(whence),))
            return
        channel = self._waiting.get((whence.site, whence.port))
        if channel is None or channel.whence.peer != whence.peer:
            carried.close()  # nobody's, or somebody else's
        else:
            channel.take_up(carried)

    def wait(self, channel: CarriedChannel) -> int | None:
        """The port that its data connection is to come to; None if all are waited at."""
        first, _, last = channel.whence.ports.partition("-")
        site = channel.whence.site
        free = [
            port
            for port in range(int(first or 1), int(last or 0) + 1)
            if (site, port) not in self._waiting
        ]
        if not free:
            return None
        port = secrets.choice(free)
        self._waiting[site, port] = channel
        return port

    def forget(self, channel: CarriedChannel) -> None:
        self._waiting = {key: one for key, one in self._waiting.items() if one is not channel}


class _FirstLine(AsyncChat):  # type: ignore[misc]
    """Reads byte by byte, as everything after it belongs to FTP or TLS."""

    ac_in_buffer_size = 1

    def __init__(self, sock: socket.socket, server: CarriedServer) -> None:
        super().__init__(sock, ioloop=server.ioloop)
        self._server, self._said = server, bytearray()
        self._limit = self.call_later(relayed.LINE_WITHIN, self.close)
        self.set_terminator(b"\n")

    def collect_incoming_data(self, data: bytes) -> None:
        self._said += data
        if len(self._said) > relayed.LONGEST_LINE:
            self.close()

    def found_terminator(self) -> None:
        try:
            whence = Whence.of(bytes(self._said))
        except ValueError:
            self.close()
            return
        self._limit.cancel()
        self.del_channel()
        carried = CarriedSocket(fileno=self.socket.detach())
        carried.setblocking(False)
        carried.whence = whence
        self._server.begin(carried)


class CarriedChannel:
    """What pyftpdlib asks of a passive data connection until that has come."""

    def __init__(self, cmd_channel: Any, extmode: bool = False) -> None:
        self.whence: Whence = cmd_channel.whence
        self._session, self._server = cmd_channel, cmd_channel.server
        self._limit = cmd_channel.ioloop.call_later(_DATA_WITHIN, self._too_late)
        self._answer(extended=extmode)

    def _answer(self, *, extended: bool) -> None:
        address = None
        with suppress(ValueError):
            address = ipaddress.IPv4Address(self.whence.host)
        port = self._server.wait(self) if extended or address is not None else None
        if port is None:
            self.close()
            self._session.respond(
                "425 All ports for data are in use." if extended or address else "502 Say EPSV."
            )
        elif extended:
            self._session.respond(f"229 Entering extended passive mode (|||{port}|).")
        else:
            told = ",".join([*str(address).split("."), str(port // 256), str(port % 256)])
            self._session.respond(f"227 Entering passive mode ({told}).")

    def take_up(self, carried: CarriedSocket) -> None:
        self.close()
        if not self._session.connected:
            carried.close()
            return
        handler = self._session.dtp_handler(carried, self._session)
        if handler.connected:
            self._session.data_channel = handler
            self._session._on_dtp_connection()

    def _too_late(self) -> None:
        self._server.forget(self)
        if self._session.connected:
            self._session.respond("421 Passive data channel timed out.")

    def close(self) -> None:
        self._server.forget(self)
        if not self._limit.cancelled:
            self._limit.cancel()
