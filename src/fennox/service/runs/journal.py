"""A run's journal in the catalogue: steps, progress, log lines, and the two reasons to stop."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import structlog

from fennox.core.errors import LeaseLost, Stopped, TryLater
from fennox.engine.journal import Level
from fennox.service.machines.context import Context
from fennox.service.runs import queue
from fennox.service.runs.progress_log import Book
from fennox.service.runs.queue import Lease

_EVERY = 1.0  # seconds before events are written, so that several are written together

log: Any = structlog.get_logger()


@dataclass
class CatalogueJournal:
    """Implements :class:`fennox.engine.journal.Journal`. The worker's heartbeat sets ``stop`` and
    ``lost``.
    """

    context: Context
    lease: Lease
    stop: bool = False
    lost: bool = False
    cut_off: bool = False  # asked to stop, but still running
    going_through: bool = False  # in a step that cannot be stopped
    _telling: asyncio.Task[None] | None = field(default=None, repr=False)

    @property
    def _book(self) -> Book:
        return self.lease.book

    async def step(self, title: str) -> None:
        self._raise_flags()
        self._book.steps.append((title, self.context.now()))
        self._tell_soon()

    async def progress(self, *, documents: int = 0, bytes: int = 0) -> None:
        self._raise_flags()
        self._book.totals = (documents, bytes)
        self._tell_soon()

    async def log(self, level: Level, text: str) -> None:
        log.info("run log", level=level, text=text)
        self._book.lines.append((self.context.now(), level, text))
        self._tell_soon()

    async def check(self) -> None:
        """Query the database itself: this prevents a run with a lost lease from storing
        a record.
        """
        self._raise_flags()
        try:
            async with self.context.alone() as database:
                self.stop = await queue.check(database, self.lease)
        except LeaseLost:
            self.lost = True
            raise
        self._raise_flags()

    @contextmanager
    def unstoppable(self) -> Iterator[None]:
        self.going_through = True
        try:
            yield
        finally:
            self.going_through = False

    async def close(self) -> None:
        if self._telling is not None:
            self._telling.cancel()
            await asyncio.gather(self._telling, return_exceptions=True)

    def _tell_soon(self) -> None:
        if self._telling is None or self._telling.done():
            self._telling = asyncio.create_task(self._tell())

    async def _tell(self) -> None:
        """Progress need not be durable: a crash of the database's machine may lose the
        last of it.
        """
        await asyncio.sleep(_EVERY)
        while self._book.news:
            try:
                async with self.context.session(lasting=False) as session:
                    self.stop = (await queue.owned(session, self.lease)).stop_asked
            except LeaseLost:
                self.lost = True  # or it has ended, and nobody needs it any more
                return
            except TryLater as error:
                log.warning("database out of reach", reason=error.what)
            await asyncio.sleep(_EVERY)

    def _raise_flags(self) -> None:
        if self.lost:
            raise LeaseLost("This worker no longer owns the run.", "Another worker continues it.")
        if self.stop and not self.going_through:
            raise Stopped("The run was stopped.", "Start it again when you want it.")
