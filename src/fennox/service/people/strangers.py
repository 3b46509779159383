"""Auditing requests without a sign-in: one entry per address and minute, with a count. So a
stranger cannot inflate the audit.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from dataclasses import dataclass, field

_AGAIN = 60.0  # seconds
_MOST = 4096  # remembered addresses; a new one replaces the least recently recorded


@dataclass
class _SeenStranger:
    told: float
    since: int = 0  # requests not yet recorded


@dataclass
class Strangers:
    """Counters of one process. Unrecorded counts are lost when it ends."""

    _by_address: OrderedDict[str, _SeenStranger] = field(default_factory=OrderedDict)

    def to_tell(self, address: str, now: float | None = None) -> int | None:
        """Number of requests for an entry now, including this one; None: too soon for an entry."""
        now = time.monotonic() if now is None else now
        seen = self._by_address.get(address)
        if seen is not None and now - seen.told < _AGAIN:
            seen.since += 1
            return None
        count = 1 + (seen.since if seen is not None else 0)
        self._by_address[address] = _SeenStranger(now)
        self._by_address.move_to_end(address)
        if len(self._by_address) > _MOST:
            self._by_address.popitem(last=False)
        return count
