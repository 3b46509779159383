"""A line between a service and a far side that can be cut, hang or be slow."""

from __future__ import annotations

import socket
import threading
import time
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Literal

from tests.places import free_port, loopback

Mood = Literal["well", "hung", "slow"]


@dataclass
class Relay:
    """Listens at ``host:port`` and passes everything on to the far side, in whatever mood it is."""

    far: tuple[str, int]
    host: str = field(default_factory=loopback)
    mood: Mood = "well"
    _open: set[socket.socket] = field(default_factory=set)

    def __post_init__(self) -> None:
        self.port = free_port(self.host)
        self._listener = socket.create_server((self.host, self.port))
        threading.Thread(target=self._accept, daemon=True).start()

    def cut(self) -> None:
        """Everything that is connected now ends at once."""
        for one in list(self._open):
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        self._listener.close()
        self.mood = "well"
        self.cut()

    def _accept(self) -> None:
        while True:
            try:
                near, _ = self._listener.accept()
                far = socket.create_connection(self.far, 10)
            except OSError:
                return
            self._open |= {near, far}
            for one, other in ((near, far), (far, near)):
                threading.Thread(target=self._pass, args=(one, other), daemon=True).start()

    def _pass(self, one: socket.socket, other: socket.socket) -> None:
        with suppress(OSError):
            while data := one.recv(65536):
                while self.mood == "hung":
                    time.sleep(0.05)
                if self.mood == "slow":
                    time.sleep(0.2)
                other.sendall(data)
        for end in (one, other):
            self._open.discard(end)
            with suppress(OSError):
                end.close()
