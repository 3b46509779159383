"""A run's journal on the catalogue: steps, progress and log lines, and the two reasons to stop."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Any

import structlog

from fennox.catalogue.models import RunLog
from fennox.core.errors import LeaseLost, Stopped
from fennox.engine.journal import Level
from fennox.service import queue
from fennox.service.context import Context
from fennox.service.queue import Lease

_EVERY = 0.5  # seconds between progress writes

log: Any = structlog.get_logger()


@dataclass
class CatalogueJournal:
    """Implements :class:`fennox.engine.journal.Journal`. The worker's heartbeat sets ``stop`` and ``lost``."""

    context: Context
    lease: Lease
    stop: bool = False
    lost: bool = False
    _progress: tuple[int, int] = (0, 0)
    _written: float = field(default=0.0)

    async def step(self, title: str) -> None:
        self._raise_flags()
        async with self.context.session(lasting=False) as session:
            self.stop = await queue.begin_step(session, self.lease, title, self._progress, self.context.now())
        self._raise_flags()

    async def progress(self, *, documents: int = 0, bytes: int = 0) -> None:
        self._raise_flags()
        self._progress = (documents, bytes)
        if time.monotonic() - self._written < _EVERY:
            return
        self._written = time.monotonic()
        async with self.context.session(lasting=False) as session:
            run = await queue.owned(session, self.lease)
            run.documents, run.size = documents, bytes
            await queue.announce(session, run.id)

    async def log(self, level: Level, text: str) -> None:
        log.info("run log", level=level, text=text)
        async with self.context.session(lasting=False) as session:
            session.add(RunLog(run_id=self.lease.run, at=self.context.now(), level=level, text=text))
            await queue.announce(session, self.lease.run)

    async def check(self) -> None:
        """Ask the database itself: this is what stands between a lost lease and a record in a store."""
        self._raise_flags()
        async with self.context.session() as session:
            run = await queue.owned(session, self.lease)
            if run.stop_asked:
                self.stop = True
        self._raise_flags()

    def _raise_flags(self) -> None:
        if self.lost:
            raise LeaseLost("This worker no longer owns the run.", "Another worker goes on with it.")
        if self.stop:
            raise Stopped("The run was stopped.", "Start it again when you want it.")

    @property
    def totals(self) -> tuple[int, int]:
        return self._progress
