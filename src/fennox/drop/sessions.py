"""How many connections there may be: of all together a minute, and of one account at once."""

from __future__ import annotations

import time
from collections import Counter, deque
from collections.abc import Callable
from dataclasses import dataclass, field

_WINDOW = 60.0  # seconds


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
