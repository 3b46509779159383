"""Requests without a sign-in, for the audit: one entry for an address a minute, which counts the
others.

A stranger may knock as often as they like; the audit must not become as long as they please.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from dataclasses import dataclass, field

_AGAIN = 60.0  # seconds
_MOST = 4096  # remembered addresses; a new one replaces the one recorded longest ago


@dataclass
class _SeenStranger:
    told: float
    since: int = 0  # requests not recorded yet


@dataclass
class Strangers:
    """In one process. Counts not yet recorded when it ends are lost."""

    _by_address: OrderedDict[str, _SeenStranger] = field(default_factory=OrderedDict)

    def to_tell(self, address: str, now: float | None = None) -> int | None:
        """How many requests an entry now is about, this one among them; None: it is too soon for
        one.
        """
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
