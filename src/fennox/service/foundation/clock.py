"""The injected clock: the machine's, or a simulated one read from a local socket. The simulated
clock's server sends lines ``<seconds since 1970> <rate>``; between lines time advances at that rate
(0: stopped). Leases and heartbeats never use it; they use the database's own clock.
"""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from fennox.core.errors import MendSettings

Now = Callable[[], datetime]


def real_now() -> datetime:
    return datetime.now(UTC)


class SimulatedClock:
    """Follows a clock server; waits for its first line. ``on_change`` is called for each later one,
    in a thread.
    """

    def __init__(self, path: Path, on_change: Callable[[], None] = lambda: None) -> None:
        self._on_change = on_change
        self._socket = socket.socket(socket.AF_UNIX)
        self._socket.settimeout(10)
        try:
            self._socket.connect(str(path))
            self._lines = self._socket.makefile("r", encoding="ascii")
            self._take(self._lines.readline())
        except (OSError, ValueError) as error:
            self._socket.close()
            raise MendSettings(f"No clock answers at {path}.", "Start the estate first.") from error
        self._socket.settimeout(None)
        threading.Thread(target=self._follow, name="simulated clock", daemon=True).start()

    def _take(self, line: str) -> None:
        at, rate = line.split()
        self._state = (float(at), float(rate), time.monotonic())

    def _follow(self) -> None:
        with self._socket, self._lines:
            for line in self._lines:
                self._take(line)
                self._on_change()

    def now(self) -> datetime:
        at, rate, since = self._state
        return datetime.fromtimestamp(at + rate * (time.monotonic() - since), UTC)
