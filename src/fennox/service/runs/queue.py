"""The run table as the queue: claim, lease, fence, finish. Leases go by the database's own clock.

Every outcome is conditional on the fence: a worker that was paused past its lease wakes up to find
that nothing it does counts any more.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any, NamedTuple, cast

from sqlalchemy import (
    ColumnElement,
    CursorResult,
    Interval,
    String,
    and_,
    bindparam,
    exists,
    func,
    literal_column,
    not_,
    or_,
    select,
    table,
    text,
    true,
    union_all,
    update,
)
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncSession
from sqlalchemy.orm import aliased
from sqlalchemy.sql.dml import ReturningUpdate

from fennox.catalogue import schema
from fennox.catalogue.models import (
    ACTIVE,
    IS_ACTIVE,
    PEOPLE,
    KindRow,
    Routine,
    Run,
    Site,
    System,
    Worker,
    constant,
)
from fennox.core.errors import Conflict, LeaseLost, NotFound
from fennox.core.facts.run_orders import RunKind, RunOrder
from fennox.service.foundation.postgresql import broken_constraint
from fennox.service.runs.progress_log import CHANNEL, Book, announce, end_steps

QUEUED = "fennox_queued"  # a run that a worker may take
MAX_ATTEMPTS = 3
_LONGEST_PAUSE = timedelta(hours=1)  # longer than any run is put off
_HEARD_WITHIN = 60.0  # seconds: a living worker says so every five
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
_RUNS = Run.metadata.tables[
    Run.__tablename__
]  # for what needs no objects, of which a session keeps account
Database = AsyncSession | AsyncConnection


@dataclass(frozen=True)
class Lease:
    """A worker's right to a run, until somebody else gets a higher fence."""

    run: str
    fence: int
    attempt: int
    book: Book = field(default_factory=Book, compare=False, repr=False)


@dataclass(frozen=True, kw_only=True)
class About:
    """What a run is about, by ids. ``backup_id``: of the backup that a take makes, or that is
    copied or verified.
    """

    system_id: str | None = None
    store_id: str | None = None
    routine_id: str | None = None
    sheet_id: str | None = None
    backup_id: str | None = None


async def call_workers(session: AsyncSession) -> None:
    """Have workers look into the queue, once this transaction is through."""
    await session.execute(_CALL, {"channel": QUEUED})


async def enqueue(
    session: AsyncSession,
    order: RunOrder,
    about: About,
    *,
    by: str,
    now: datetime,
    due: datetime | None = None,
    idempotency_key: str | None = None,
    wait: bool = False,
) -> Run:
    """Record and queue a run in the caller's transaction; one active run for a system.

    ``wait``: while another run of the system is active it lines up behind it, where it would be
    refused otherwise. The same idempotency key gives the same run again.
    """
    if idempotency_key is not None:
        known = await session.execute(select(Run).where(Run.idempotency_key == idempotency_key))
        if (run := known.scalar_one_or_none()) is not None:
            if (run.kind, run.system_id, run.sheet_id) != (
                order.kind,
                about.system_id,
                about.sheet_id,
            ):
                raise Conflict(
                    f"This idempotency key has started something else: the {run.kind}"
                    f" {run.id[:12]}.",
                    "Give another key.",
                )
            return run
    if order.kind != "look" and about.system_id is not None:
        await _give_way(session, about.system_id, now)
    run = Run(
        id=secrets.token_hex(16),
        kind=order.kind,
        state="queued",
        system_id=about.system_id,
        store_id=about.store_id,
        routine_id=about.routine_id,
        sheet_id=about.sheet_id,
        backup_id=about.backup_id,
        order=order,
        by=by,
        due=due,
        created=now,
        idempotency_key=idempotency_key,
    )
    try:
        async with session.begin_nested():
            session.add(run)
    except IntegrityError as error:
        match broken_constraint(error):
            case "a_due_time_is_decided_once":
                raise Conflict(
                    "This due time has already been decided.",
                    "Nothing is to be done.",
                    decided=True,
                ) from error
            case "one_active_run_for_a_system":
                run = await _lined_up(session, run, wait=wait)
            case _:
                raise
    await announce(session, run.id)
    await call_workers(session)
    return run


async def hold_active(session: AsyncSession, system_id: str) -> None:
    """Lock the active runs of a system, before its own row or a sheet of its is locked.

    Whoever carries a run out locks that first. Two who lock in another order wait for each other,
    and the database ends one of them: a restore died of somebody who started it a second time.
    """
    active = select(Run.id).where(Run.system_id == system_id, IS_ACTIVE).order_by(Run.id)
    await session.execute(active.with_for_update())


async def _lined_up(session: AsyncSession, run: Run, *, wait: bool) -> Run:
    """The run behind the active one of its system, which it would not go beside."""
    active = select(Run).where(Run.system_id == run.system_id, IS_ACTIVE)
    other = (await session.execute(active.where(Run.behind.is_(None)))).scalars().first()
    waiting = (await session.execute(active.where(Run.behind.is_not(None)))).scalars().all()
    if not wait or other is None or len(waiting) >= _MOST_LINED_UP:
        many = f" and {len(waiting)} more wait behind it" if wait and waiting else ""
        raise Conflict(
            f"Another run of this system is {other.state if other else 'active'}"
            + (f" ({other.kind} {other.id[:12]}){many}." if other else "."),
            "Wait for it, or stop it with `fennox run stop`.",
            run=other.id if other else None,
        )
    behind = Run(
        **{name: getattr(run, name) for name in _QUEUED_WITH},
        id=secrets.token_hex(16),
        state="queued",
        behind=other.id,
    )
    session.add(behind)
    await session.flush()
    return behind


_QUEUED_WITH = (
    "kind",
    "system_id",
    "store_id",
    "routine_id",
    "sheet_id",
    "backup_id",
    "order",
    "by",
    "due",
    "created",
    "idempotency_key",
)
_MOST_LINED_UP = 5  # runs of one system that wait behind an active one


def _let_begin(*of: ColumnElement[bool]) -> ReturningUpdate[str]:
    """Let the first of those that line up into the queue, of every system that has no active
    run.
    """
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


# made once: every worker asks every few seconds
_LET_ANY_BEGIN, _LET_ONE_BEGIN = _let_begin(), _let_begin(Run.system_id == bindparam("system"))


async def let_next_begin(database: Database, system_id: str | None = None) -> list[str]:
    """Let the first of those that line up into the queue: of a system that has no active run, or of
    every such one.
    """
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


async def _give_way(session: AsyncSession, system_id: str, now: datetime) -> None:
    """A look holds nobody up: it ends when anything else is wanted of its system."""
    looks = (
        select(Run)
        .where(Run.system_id == system_id, Run.kind == "look", IS_ACTIVE)
        .with_for_update()
    )
    for run in (await session.execute(looks)).scalars():
        run.fence += 1
        run.reason = "It gave way to another run of the system."
        await end(session, run, "stopped", now)
        await session.flush()


_PEOPLE, _NO_ROUTINE = constant(PEOPLE), constant("")
_ONE: ColumnElement[int] = literal_column("1")
_WAITS = (Run.state == constant("queued")).is_(True)
"""Put as no other index has it: a database that believes that hardly anything waits takes any, and
reads all of it.
"""
_KINDS = (
    select(func.concat(func.count(), " ", func.max(KindRow.added)))
    .select_from(KindRow)
    .scalar_subquery()
)
_OUR_SCHEMA = select(literal_column("version_num", String)).select_from(
    table("alembic_version")
).scalar_subquery() == (constant(schema.NUMBER))
"""Nothing is claimed once a newer Fennox has changed the tables: what an older one wrote there
could be wrong.
"""
_REACHES = ("take", "look", "draft", "restore")  # kinds of runs that speak with a machine


@dataclass(frozen=True)
class Claimant:
    """What a worker may take: runs at these sites, and (``near``) those that need no worker of a
    site.

    ``people_only``: nothing that is due by itself.
    """

    worker: str
    sites: frozenset[str] = frozenset()
    near: bool = True
    people_only: bool = False


class ClaimedRun(NamedTuple):
    """``kind``: of the run; ``kinds``: a text that is another one once somebody has added a
    kind.
    """

    kind: RunKind
    lease: Lease
    kinds: str


async def claim(
    database: Database, claimant: Claimant, lease_seconds: float, now: datetime
) -> ClaimedRun | None:
    """Take the next run of the queue.

    A person's run goes first. Of what is due by itself those go first whose routine has the fewest
    going on, so that a routine of a thousand systems does not hold up one of three.
    """
    chosen = _next(claimant.sites, claimant.near, claimant.people_only)
    begun = {"now": now, "worker": claimant.worker, "seconds": timedelta(seconds=lease_seconds)}
    row = (await database.execute(chosen, begun)).one_or_none()
    return (
        ClaimedRun(row.kind, Lease(row.id, row.fence, row.attempt), row.kinds)
        if row is not None
        else None
    )


@lru_cache(maxsize=64)
def _next(sites: frozenset[str], near: bool, people_only: bool) -> ReturningUpdate[Any]:
    """Takes the next run, tells those who follow it, and gives what a worker must know.

    The oldest of each lane is looked at, and not all that waits.
    """
    ran = aliased(Run)
    going_on = (
        select(func.coalesce(ran.routine_id, _NO_ROUTINE).label("lane"), func.count().label("runs"))
        .where(ran.state == constant("running"))
        .group_by(func.coalesce(ran.routine_id, _NO_ROUTINE))
        .subquery()
    )
    every = [select(_PEOPLE.label("lane"))]
    if not people_only:
        every += [select(_NO_ROUTINE.label("lane")), select(Routine.id.label("lane"))]
    lanes = union_all(*every).subquery("lanes")
    oldest = (
        select(Run.id, Run.queued_at)
        .where(_WAITS, Run.lane == lanes.c.lane, Run.behind.is_(None), _OUR_SCHEMA)
        .where(_waited_for(), _within_reach(sites, near))
        .order_by(Run.queued_at)
        .limit(_ONE)
        .with_for_update(skip_locked=True, of=Run)
        .lateral("oldest")
    )
    chosen = (
        select(oldest.c.id)
        .select_from(
            lanes.join(oldest, true()).outerjoin(going_on, going_on.c.lane == lanes.c.lane)
        )
        .order_by(lanes.c.lane != _PEOPLE, func.coalesce(going_on.c.runs, 0), oldest.c.queued_at)
        .limit(_ONE)
    )
    return (
        update(_RUNS)
        .where(Run.id == chosen.scalar_subquery())
        .values(
            state="running",
            worker=bindparam("worker"),
            fence=Run.fence + 1,
            attempt=Run.attempt + 1,
            lease_until=func.now() + bindparam("seconds", type_=Interval),
            started=func.coalesce(Run.started, bindparam("now")),
        )
        .returning(
            Run.id,
            Run.kind,
            Run.fence,
            Run.attempt,
            _KINDS.label("kinds"),
            func.pg_notify(CHANNEL, Run.id),
        )
    )


def _waited_for() -> ColumnElement[bool]:
    """Its pause is over; one that is longer than any was set by a database whose clock went back
    since.
    """
    return or_(
        Run.not_before.is_(None),
        Run.not_before <= func.now(),
        Run.not_before > func.now() + _LONGEST_PAUSE,
    )


def _within_reach(sites: frozenset[str], near: bool) -> ColumnElement[bool]:
    of_run = select(System.id).where(System.id == Run.system_id, System.login_id.is_not(None))
    reaches = Run.kind.in_(_REACHES)
    here = and_(reaches, of_run.where(System.site.in_(sites)).exists())
    if not near:
        return here
    return or_(here, not_(and_(reaches, of_run.where(System.site.in_(select(Site.name))).exists())))


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
_STOP_ASKED = select(_RUNS.c.stop_asked).where(OURS)
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
    """The run, locked, if it is still ours; everything that counts happens in the same transaction.

    What its book has to tell is told here, and what comes until then at its :func:`end`; if it is
    ``ending``, all.
    """
    run: Run | None = (await session.execute(_LOCKED, of_lease(lease))).scalar_one_or_none()
    if run is None:
        raise lost()
    if not ending:
        await lease.book.tell(session, run, lease.attempt)
    session.info["lease"] = lease
    return run


async def end(session: AsyncSession, run: Run, state: str, now: datetime) -> None:
    """Close an owned run, or set it waiting for a person."""
    lease: Lease | None = session.info.get("lease")
    if lease is not None and lease.run == run.id:
        with session.no_autoflush:  # the run's own row is written once
            await lease.book.tell(session, run, lease.attempt, ended=now)
    else:
        lease = None
    run.state = state
    if state == "done" and run.kind != "restore":  # a restore tells by it what stays on the target
        run.reason = run.remedy = ""
        run.problem = None
    for name, value in ENDED.items():
        setattr(run, name, value)
    if state != "waiting":
        run.ended = now
    if lease is None or lease.attempt > 1:  # a worker that died left its last step open
        await end_steps(session, run.id, now)
    await announce(session, run.id)
    if run.system_id is not None and state != "waiting":
        await session.flush()
        await let_next_begin(session, run.system_id)


async def put_off(session: AsyncSession, run: Run, seconds: float, now: datetime) -> None:
    """Back into an owned run's queue, to be tried again when that time has passed (by the
    database's clock).
    """
    await end(session, run, "waiting", now)
    run.state, run.ended = "queued", None
    run.not_before = _from_now(seconds)
    await call_workers(session)


async def _is_silent(session: AsyncSession, run: Run) -> bool:
    """Whether nothing was heard of a run's worker for longer than it is ever silent, or only from
    the future.
    """
    age = func.extract("epoch", func.now() - Worker.seen)
    heard = (
        await session.execute(select(age).where(Worker.id == run.worker, Worker.stopped.is_(None)))
    ).scalar_one_or_none()
    return heard is None or not -_HEARD_WITHIN < float(heard) < _HEARD_WITHIN


async def ask_to_stop(session: AsyncSession, run_id: str, now: datetime) -> Run:
    """A waiting or queued run stops at once, and so does one whose worker is silent; else it stops
    at its next step.
    """
    run = (
        await session.execute(select(Run).where(Run.id == run_id).with_for_update())
    ).scalar_one_or_none()
    if run is None:
        raise NotFound(
            f"There is no run {run_id[:12]}.", "`fennox run list` shows those there are."
        )
    if run.state not in ACTIVE:
        raise Conflict(f"The run has already ended: {run.state}.", "Nothing is to be stopped.")
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
    return LeaseLost("This worker no longer owns the run.", "Another worker goes on with it.")
