"""The interface through which a run reports progress and checks its lease. The engine needs no
database.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from typing import Literal, Protocol

from fennox.core.errors import LeaseLost, Stopped

Level = Literal["info", "expected", "warning", "error"]


class Journal(Protocol):
    """One run's journal."""

    async def step(self, title: str) -> None:
        """Start a new stage; the previous one succeeded."""

    async def progress(self, *, documents: int = 0, bytes: int = 0) -> None:
        """Totals so far. May be called often; the journal throttles them. Raises like
        :meth:`check`.
        """

    async def log(self, level: Level, text: str) -> None: ...

    async def check(self) -> None:
        """Raise :class:`LeaseLost` if the run now belongs to another worker, :class:`Stopped` if a
        person asked. Called before every lasting effect, above all before a record is stored.
        """

    def unstoppable(self) -> AbstractContextManager[None]:
        """Within it nothing raises :class:`Stopped`; a person's wish is met afterwards."""


@dataclass
class MemoryJournal:
    """An in-memory journal, for the command line's offline work and for tests."""

    steps: list[str] = field(default_factory=list)
    lines: list[tuple[Level, str]] = field(default_factory=list)
    documents: int = 0
    bytes: int = 0
    stop: bool = False
    lost: bool = False
    going_through: bool = False

    async def step(self, title: str) -> None:
        await self.check()
        self.steps.append(title)

    async def progress(self, *, documents: int = 0, bytes: int = 0) -> None:
        await self.check()
        self.documents, self.bytes = documents, bytes

    async def log(self, level: Level, text: str) -> None:
        self.lines.append((level, text))

    async def check(self) -> None:
        if self.lost:
            raise LeaseLost("Another worker has taken this run.", "There is nothing to do here.")
        if self.stop and not self.going_through:
            raise Stopped("The run was stopped.", "Start it again when you want it.")

    @contextmanager
    def unstoppable(self) -> Iterator[None]:
        self.going_through = True
        try:
            yield
        finally:
            self.going_through = False
