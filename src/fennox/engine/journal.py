"""What a run reports, and what it asks of whoever keeps the record of runs. The engine needs no
database.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, Protocol

from fennox.core.errors import LeaseLost, Stopped

Level = Literal["info", "expected", "warning", "error"]


class Journal(Protocol):
    """One run's book."""

    async def step(self, title: str) -> None:
        """A new stage begins; the one before has ended well."""

    async def progress(self, *, documents: int = 0, bytes: int = 0) -> None:
        """Totals so far. May be called often; the journal thins them out. Also raises as
        :meth:`check` does.
        """

    async def log(self, level: Level, text: str) -> None: ...

    async def check(self) -> None:
        """Raise :class:`LeaseLost` if the run belongs to another worker now, :class:`Stopped` if a
        person asked.

        Called before everything that would count, above all before a record is put.
        """


@dataclass
class MemoryJournal:
    """A journal in memory, for the command line's offline work and for tests."""

    steps: list[str] = field(default_factory=list)
    lines: list[tuple[Level, str]] = field(default_factory=list)
    documents: int = 0
    bytes: int = 0
    stop: bool = False
    lost: bool = False

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
            raise LeaseLost("Another worker has taken this run.", "Nothing is to be done here.")
        if self.stop:
            raise Stopped("The run was stopped.", "Start it again when you want it.")
