"""Who may push: an account for each system, with a secret that Fennox made or a key of the system.
And how much of it: connections of all together a minute and of one account at once, and bytes a
second of one system.

A secret has 160 random bits, so its digest needs no costly hashing.
"""

from __future__ import annotations

import hmac
import threading
import time
from collections import Counter, deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from hashlib import sha256

_FAILURES = 10  # of one address within the window, before it is refused unheard
_WINDOW = 60.0  # seconds
_MOST_ADDRESSES = 10_000
_AHEAD = 1.0  # seconds' worth of bytes that a system which was quiet may send at once


@dataclass(frozen=True)
class DropLogin:
    """``secret``: SHA-256 as hex. ``keys``: public keys in OpenSSH's form. ``offer``: id of the
    offer that it may read, instead of pushing.
    """

    account: str
    system: str
    secret: str
    keys: tuple[str, ...] = ()
    offer: str = ""


def digest_of(secret: str) -> str:
    return sha256(secret.encode()).hexdigest()


@dataclass
class Doorkeeper:
    """The logins of the moment, and a guard against guessing. Threads may share it. ``offered``:
    the login of an offer, by its account.
    """

    clock: Callable[[], float] = time.monotonic
    offered: Callable[[str], DropLogin | None] = lambda _account: None
    _logins: dict[str, DropLogin] = field(default_factory=dict)
    _failures: dict[str, deque[float]] = field(default_factory=dict)

    def replace(self, logins: Iterable[DropLogin]) -> None:
        self._logins = {login.account: login for login in logins}

    def login(self, account: str) -> DropLogin | None:
        return self._logins.get(account) or self.offered(account)

    def is_shut_out(self, address: str) -> bool:
        failures = self._failures.get(address)
        if failures is None:
            return False
        while failures and failures[0] < self.clock() - _WINDOW:
            failures.popleft()
        if not failures:
            self._failures.pop(address, None)
        return len(failures) >= _FAILURES

    def admit(self, account: str, secret: str, address: str) -> DropLogin | None:
        """The login, or None; a failure counts against the address."""
        if self.is_shut_out(address):
            return None
        login = self.login(account)
        known = login.secret if login is not None else ""
        if hmac.compare_digest(known, digest_of(secret)):
            return login
        if len(self._failures) >= _MOST_ADDRESSES:
            self._failures.pop(next(iter(self._failures)))
        self._failures.setdefault(address, deque(maxlen=_FAILURES)).append(self.clock())
        return None


@dataclass
class Sessions:
    """Threads may share it: each act is one step of the interpreter on its own counter."""

    a_minute: int = 600
    at_once: int = 16
    clock: Callable[[], float] = time.monotonic
    _knocks: deque[float] = field(default_factory=deque)
    _inside: Counter[str] = field(default_factory=Counter)

    def knock(self) -> bool:
        """Whether another connection may be made now."""
        now = self.clock()
        while self._knocks and self._knocks[0] < now - _WINDOW:
            self._knocks.popleft()
        if len(self._knocks) >= self.a_minute:
            return False
        self._knocks.append(now)
        return True

    def enter(self, account: str) -> bool:
        """Whether the account may have another session; ``leave`` ends it."""
        if self._inside[account] >= self.at_once:
            return False
        self._inside[account] += 1
        return True

    def leave(self, account: str) -> None:
        if account and self._inside[account] > 0:
            self._inside[account] -= 1


@dataclass
class Pace:
    """``rate``: bytes a second; 0: as many as come. Threads may share it.

    The arithmetic is that of the generic cell rate algorithm (ITU-T I.371, as virtual scheduling).
    """

    rate: int = 0
    clock: Callable[[], float] = time.monotonic
    _due: dict[str, float] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def pause_after(self, system: str, count: int) -> float:
        """Seconds until the system may send again, now that it has sent ``count`` bytes."""
        if not self.rate:
            return 0.0
        now = self.clock()
        with self._lock:
            begun = max(self._due.get(system, 0.0), now - _AHEAD)
            self._due[system] = begun + count / self.rate
            return max(0.0, self._due[system] - now)
