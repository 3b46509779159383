"""A run's reports: steps, lines and totals, for the log and its followers."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from typing import TypeVar

from sqlalchemy import event, func, insert, text, update
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import SessionTransaction

from fennox.catalogue.models.runs import Run, RunLog, RunStep
from fennox.engine.journal import Level

CHANNEL = "fennox_runs"  # channel for all changes of runs
_NOTIFY = text("select pg_notify(:channel, :run)")


@dataclass
class Book:
    """A run's pending reports: steps, lines and totals are written together. A short run writes
    them in transactions it needs anyway.
    """

    steps: list[tuple[str, datetime]] = field(default_factory=list)
    lines: list[tuple[datetime, Level, str]] = field(default_factory=list)
    totals: tuple[int, int] = (0, 0)  # documents, bytes
    _told: tuple[int, int] = (0, 0)
    _open: bool = False  # a step already written is still active
    _step: str = ""  # which one

    @property
    def news(self) -> bool:
        return bool(self.steps or self.lines) or self.totals != self._told

    async def tell(
        self, session: AsyncSession, run: Run, attempt: int, ended: datetime | None = None
    ) -> None:
        """Write them in the transaction that owns the run. If that fails, they stay pending.
        ``ended``: when the last step ended, with the run.
        """
        if not self.news:
            if self._open and ended is not None:
                await end_steps(session, run.id, ended)
            return
        steps, lines, told, was_open = self.steps, self.lines, self._told, self._open

        def keep(_session: object, transaction: SessionTransaction) -> None:
            # otherwise only a savepoint failed, as for a duplicate run
            if transaction.parent is None:
                self.steps, self.lines = [*steps, *self.steps], [*lines, *self.lines]
                self._told, self._open = told, was_open

        event.listen(session.sync_session, "after_soft_rollback", keep)
        self.steps, self.lines = [], []
        run.told = func.now()
        if self.totals != told:
            self._told = self.totals
            run.documents, run.size = self.totals
        closed = steps[0][1] if steps else ended
        if was_open and closed is not None:
            await end_steps(session, run.id, closed)
        if steps:
            await session.execute(insert(RunStep).values(_step_rows(run, attempt, steps, ended)))
            run.step = self._step = steps[-1][0]
            self._open = ended is None
        if lines:
            told_lines = [
                {"run_id": run.id, "at": at, "level": level, "text": line}
                for at, level, line in lines
            ]
            await session.execute(insert(RunLog).values(told_lines))
        if ended is None:
            await announce(session, run.id)

    @contextmanager
    def taken_out(self, ended: datetime) -> Iterator[ToldSoFar]:
        """All pending reports of a run that ends, for one statement. If that fails, they stay
        pending.
        """
        steps, lines = self.steps, self.lines
        told = ToldSoFar(
            [
                {"title": title, "started": started.isoformat(), "ended": end.isoformat()}
                for title, started, end in _spans(steps, ended)
            ],
            [{"at": at.isoformat(), "level": level, "text": line} for at, level, line in lines],
            steps[-1][0] if steps else self._step,
            steps[0][1] if steps else ended,
        )
        self.steps, self.lines = [], []
        try:
            yield told
        finally:
            if not told.kept:
                self.steps, self.lines = [*steps, *self.steps], [*lines, *self.lines]


_End = TypeVar("_End", datetime, datetime | None)


def _step_rows(
    run: Run, attempt: int, steps: list[tuple[str, datetime]], ended: datetime | None
) -> list[dict[str, object]]:
    fixed = {"run_id": run.id, "attempt": attempt}
    return [
        {**fixed, "title": title, "started": started, "ended": end}
        for title, started, end in _spans(steps, ended)
    ]


def _spans(
    steps: list[tuple[str, datetime]], ended: _End
) -> Iterator[tuple[str, datetime, datetime | _End]]:
    """Each step with its end: the start of the next one, or ``ended`` for the last."""
    for at, (title, started) in enumerate(steps):
        yield title, started, steps[at + 1][1] if at + 1 < len(steps) else ended


@dataclass
class ToldSoFar:
    """A run's pending rows: steps, lines, its last step, and when the step before them ended."""

    steps: list[dict[str, str]]
    lines: list[dict[str, str]]
    step: str
    closed: datetime
    kept: bool = False


async def announce(session: AsyncSession, run_id: str) -> None:
    """Notify listeners of a new or changed run when this transaction commits."""
    await session.execute(_NOTIFY, {"channel": CHANNEL, "run": run_id})


async def end_steps(session: AsyncSession, run_id: str, now: datetime) -> None:
    going_on = (
        update(RunStep).where(RunStep.run_id == run_id, RunStep.ended.is_(None)).values(ended=now)
    )
    await session.execute(going_on.execution_options(synchronize_session=False))
