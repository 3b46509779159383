"""The estate's clock: a socket that tells everyone which time it is, and at which rate it goes on.

A line is ``<seconds since 1970> <rate>``; rate 0 stands still. Every listener gets a line at once
and at every change.
"""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from pathlib import Path

ESTATE = Path("/run/estate-clock")  # on the estate's Linux servers


def now() -> float:
    """The estate's time, as its servers know it; anywhere else the machine's."""
    if not ESTATE.is_socket():
        return time.time()
    with socket.socket(socket.AF_UNIX) as line:
        line.connect(str(ESTATE))
        return float(line.makefile(encoding="ascii").readline().split()[0])


class ClockServer:
    """Tells the time over a Unix socket."""

    def __init__(self, path: Path, at: float, rate: float) -> None:
        path.unlink(missing_ok=True)
        self._socket = socket.socket(socket.AF_UNIX)
        self._socket.bind(str(path))
        self._socket.listen(64)
        self._listeners: list[socket.socket] = []
        self._lock = threading.Lock()
        self._state = (at, rate, time.monotonic())
        threading.Thread(target=self._welcome, name="clock", daemon=True).start()

    def _welcome(self) -> None:
        while True:
            try:
                listener, _ = self._socket.accept()
            except OSError:
                return  # closed
            with self._lock:
                self._listeners.append(listener)
                self._tell(listener)

    def _tell(self, listener: socket.socket) -> None:
        try:
            listener.sendall(f"{self.now():.6f} {self._state[1]}\n".encode())
        except OSError:
            self._listeners.remove(listener)

    def now(self) -> float:
        at, rate, since = self._state
        return at + rate * (time.monotonic() - since)

    def set(self, at: float, rate: float) -> None:
        with self._lock:
            self._state = (at, rate, time.monotonic())
            for listener in list(self._listeners):
                self._tell(listener)

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()
        with self._lock:
            for listener in self._listeners:
                listener.close()


class Follower:
    """Follows a clock server, as the devices do."""

    def __init__(self, path: Path) -> None:
        self._socket = socket.socket(socket.AF_UNIX)
        self._socket.connect(str(path))
        self._lines = self._socket.makefile("r", encoding="ascii")
        self._take(self._lines.readline())
        threading.Thread(target=self._follow, name="clock follower", daemon=True).start()

    def _take(self, line: str) -> None:
        at, rate = line.split()
        self._state = (float(at), float(rate), time.monotonic())

    def _follow(self) -> None:
        with self._socket, self._lines:
            for line in self._lines:
                self._take(line)

    def now(self) -> float:
        at, rate, since = self._state
        return at + rate * (time.monotonic() - since)
