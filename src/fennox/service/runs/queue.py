"""The run table as the queue: claim, lease, fence, finish. Leases go by the database's own clock.

Every outcome is conditional on the fence: a worker that was paused past its lease wakes up to find
that nothing it does counts any more.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any, cast

from sqlalchemy import (
    ColumnElement,
    CursorResult,
    and_,
    bindparam,
    exists,
    func,
    select,
    text,
    update,
)
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncSession
from sqlalchemy.orm import aliased
from sqlalchemy.sql.dml import ReturningUpdate

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import ACTIVE, Run, Worker
from fennox.core.errors import Conflict, LeaseLost, NotFound
from fennox.service.runs.progress_log import CHANNEL, Book, announce, end_steps

QUEUED = "fennox_queued"  # a run that a worker may take
MAX_ATTEMPTS = 3
LONGEST_PAUSE = timedelta(hours=1)  # exceeds any delay of a run
_HEARD_WITHIN = 60.0  # seconds; a living worker reports every five
_STOPPED = {
    "queued": "Stopped before it began.",
    "waiting": "Stopped while it waited for a person.",
    "running": "Stopped; its worker was no longer heard of.",
}
ENDED: dict[str, object] = {
    "worker": None,
    "lease_until": None,
    "worker_key": None,
    "sealed_opening_key": None,
}
"""What a run that nobody works at has not."""
_CALL = text("select pg_notify(:channel, '')")
_TELL = text("select pg_notify(:channel, :run)")
RUNS = Run.metadata.tables[Run.__tablename__]  # for statements that need no mapped objects
Database = AsyncSession | AsyncConnection


@dataclass(frozen=True)
class Lease:
    """A worker's claim on a run, until somebody else gets a higher fence."""

    run: str
    fence: int
    attempt: int
    book: Book = field(default_factory=Book, compare=False, repr=False)


async def call_workers(session: AsyncSession) -> None:
    """Wake workers when this transaction commits."""
    await session.execute(_CALL, {"channel": QUEUED})


def _let_begin(*of: ColumnElement[bool]) -> ReturningUpdate[str]:
    """For every system without an active run, move its first waiting run into the queue."""
    ahead, active = aliased(Run), aliased(Run)
    busy = exists().where(
        active.system_id == Run.system_id, active.behind.is_(None), active.state.in_(ACTIVE)
    )
    earlier = exists().where(
        ahead.system_id == Run.system_id,
        ahead.behind.is_not(None),
        ahead.state == constant("queued"),
        ahead.number < Run.number,
    )
    first = update(Run).where(
        Run.behind.is_not(None), Run.state == constant("queued"), ~busy, ~earlier, *of
    )
    return first.values(behind=None).returning(Run.id).execution_options(synchronize_session=False)


# built once: every worker runs it every few seconds
_LET_ANY_BEGIN, _LET_ONE_BEGIN = _let_begin(), _let_begin(Run.system_id == bindparam("system"))


async def let_next_begin(database: Database, system_id: str | None = None) -> list[str]:
    """Move the first waiting run into the queue: of one system without an active run, or of all."""
    if system_id is None:
        released = await database.execute(_LET_ANY_BEGIN)
    else:
        released = await database.execute(_LET_ONE_BEGIN, {"system": system_id})
    ids = [str(run) for run in released.scalars()]
    if ids:
        await database.execute(_CALL, {"channel": QUEUED})
        for run in ids:
            await database.execute(_TELL, {"channel": CHANNEL, "run": run})
    return ids


def _from_now(seconds: float) -> ColumnElement[datetime]:
    return func.now() + timedelta(seconds=seconds)


async def _set_lease(session: AsyncSession, run_id: str, fence: int, seconds: float) -> bool:
    result = await session.execute(
        update(Run)
        .where(Run.id == run_id, Run.fence == fence, Run.state == constant("running"))
        .values(lease_until=_from_now(seconds))
        .execution_options(synchronize_session=False)
    )
    return cast("CursorResult[Any]", result).rowcount == 1


async def renew(session: AsyncSession, lease: Lease, seconds: float) -> bool:
    """Renew the lease; returns whether a person asked the run to stop."""
    if not await _set_lease(session, lease.run, lease.fence, seconds):
        raise lost()
    return bool(
        (await session.execute(select(Run.stop_asked).where(Run.id == lease.run))).scalar_one()
    )


OURS = and_(
    Run.id == bindparam("run"), Run.fence == bindparam("fence"), Run.state == constant("running")
)
"""Whether a run is still that of a lease (:func:`of_lease`)."""
_STOP_ASKED = select(RUNS.c.stop_asked).where(OURS)
_LOCKED = select(Run).where(OURS).with_for_update().execution_options(populate_existing=True)


def of_lease(lease: Lease) -> dict[str, object]:
    return {"run": lease.run, "fence": lease.fence}


async def check(database: Database, lease: Lease) -> bool:
    """Raise :class:`LeaseLost` if the run is no longer ours; returns whether a person asked it to
    stop.
    """
    asked: bool | None = (await database.execute(_STOP_ASKED, of_lease(lease))).scalar_one_or_none()
    if asked is None:
        raise lost()
    return asked


async def owned(session: AsyncSession, lease: Lease, *, ending: bool = False) -> Run:
    """The run, locked, if it is still ours; everything lasting happens in the same transaction.
    Pending reports are written here and at :func:`end`; if ``ending``, all of them.
    """
    run: Run | None = (await session.execute(_LOCKED, of_lease(lease))).scalar_one_or_none()
    if run is None:
        raise lost()
    if not ending:
        await lease.book.tell(session, run, lease.attempt)
    session.info["lease"] = lease
    return run


async def end(session: AsyncSession, run: Run, state: str, now: datetime) -> None:
    """End an owned run, or make it wait for a person."""
    lease: Lease | None = session.info.get("lease")
    if lease is not None and lease.run == run.id:
        with session.no_autoflush:  # write the run's row only once
            await lease.book.tell(session, run, lease.attempt, ended=now)
    else:
        lease = None
    run.state = state
    # a restore's ending uses it to name what stays on the target
    if state == "done" and run.kind != "restore":
        run.reason = run.remedy = ""
        run.problem = None
    for name, value in ENDED.items():
        setattr(run, name, value)
    if state != "waiting":
        run.ended = now
    if lease is None or lease.attempt > 1:  # a dead worker left its last step open
        await end_steps(session, run.id, now)
    await announce(session, run.id)
    if run.system_id is not None and state != "waiting":
        await session.flush()
        await let_next_begin(session, run.system_id)


async def put_off(session: AsyncSession, run: Run, seconds: float, now: datetime) -> None:
    """Return an owned run to the queue, to be retried after a delay (by the database's clock)."""
    await end(session, run, "waiting", now)
    run.state, run.ended = "queued", None
    run.not_before = _from_now(seconds)
    await call_workers(session)


async def _is_silent(session: AsyncSession, run: Run) -> bool:
    """Whether a run's worker has been silent for too long, or reported only from the future."""
    age = func.extract("epoch", func.now() - Worker.seen)
    heard = (
        await session.execute(select(age).where(Worker.id == run.worker, Worker.stopped.is_(None)))
    ).scalar_one_or_none()
    return heard is None or not -_HEARD_WITHIN < float(heard) < _HEARD_WITHIN


async def ask_to_stop(session: AsyncSession, run_id: str, now: datetime) -> Run:
    """A waiting or queued run, or one with a silent worker, stops immediately; others stop at their
    next step.
    """
    run = (
        await session.execute(select(Run).where(Run.id == run_id).with_for_update())
    ).scalar_one_or_none()
    if run is None:
        raise NotFound(
            f"There is no run {run_id[:12]}.", "`fennox run list` shows those there are."
        )
    if run.state not in ACTIVE:
        raise Conflict(f"The run has already ended: {run.state}.", "There is nothing to stop.")
    silent = run.state == "running" and await _is_silent(session, run)
    if run.stop_asked and not silent:
        raise Conflict("The run was already asked to stop.", "It stops at its next step.")
    run.stop_asked = True
    if run.state != "running" or silent:
        run.fence += 1
        run.reason = _STOPPED[run.state]
        await end(session, run, "stopped", now)
    await announce(session, run.id)
    return run


def lost() -> LeaseLost:
    return LeaseLost("This worker no longer owns the run.", "Another worker continues it.")
