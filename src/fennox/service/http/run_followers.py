"""HTTP clients that follow runs, and how they are woken."""

from __future__ import annotations

import asyncio
from itertools import chain

_LOOKING = 2  # followers that query the database at the same time


class RunHub:
    """Wakes followers of a run on notifications from the database."""

    def __init__(self) -> None:
        self._followers: dict[str, set[asyncio.Event]] = {}
        # otherwise a crowd would use up all database connections
        self.few_at_once = asyncio.Semaphore(_LOOKING)

    def heard(self, run_id: str) -> None:
        """Without an id, notifications may have been missed, so all followers check."""
        followers = (
            self._followers.get(run_id, ())
            if run_id
            else chain.from_iterable(self._followers.values())
        )
        for event in followers:
            event.set()

    def listening(self, run_id: str) -> Listening:
        return Listening(self._followers, run_id)


class Listening:
    def __init__(self, followers: dict[str, set[asyncio.Event]], run_id: str) -> None:
        self._followers, self._run, self._event = followers, run_id, asyncio.Event()

    def __enter__(self) -> asyncio.Event:
        self._followers.setdefault(self._run, set()).add(self._event)
        return self._event

    def __exit__(self, *_: object) -> None:
        self._followers[self._run].discard(self._event)
        if not self._followers[self._run]:
            del self._followers[self._run]
