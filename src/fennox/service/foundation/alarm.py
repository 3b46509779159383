"""Waking a duty: at a moment of the given clock, by a notification, or by a timeout."""

from __future__ import annotations

import asyncio
import math
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta

_BACK = timedelta(seconds=1)  # a larger backward step of the clock triggers a full check


@dataclass
class Alarm:
    """Rings once for everything since it was set. The clock may jump, stop, or be simulated, so
    elapsed real time counts as well.
    """

    longest: float  # real seconds until it rings in any case
    monotonic: Callable[[], float] = time.monotonic
    _at: datetime | None = None
    _set: datetime | None = None
    _until: float = math.inf
    _rings: asyncio.Event = field(default_factory=asyncio.Event)

    def set(self, now: datetime, at: datetime | None, within: float | None = None) -> None:
        """Set it to ring at a moment of the clock, after a number of seconds, or when called."""
        self._set, self._at = now, at
        self._until = self.monotonic() + (
            self.longest if within is None else min(within, self.longest)
        )

    def call(self) -> None:
        self._rings.set()

    def look(self, now: datetime) -> None:
        """Ring if it is time, also if the clock went back, since decisions based on it are then in
        doubt.
        """
        back = self._set is not None and now < self._set - _BACK
        if back or (self._at is not None and now >= self._at) or self.monotonic() >= self._until:
            self._rings.set()

    async def wait(self) -> None:
        await self._rings.wait()
        self._rings.clear()
        self._at = self._set = None  # until it is set again, only a call rings it
        self._until = math.inf
