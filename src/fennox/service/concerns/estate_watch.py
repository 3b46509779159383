"""Finding present and coming problems in the catalogue, keeping them as concerns, and ending
concerns that no longer hold.

``found`` finds problems; ``settle`` compares them with standing concerns and reports which began
and ended. Times come from the service's clock or, with a real clock, from the database; never from
the judged worker.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta

from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.runs import Routine, Worker
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.facts.concerns import Away, ConcernFound
from fennox.service.access_control import approvals, attempts
from fennox.service.concerns import alert_messages, estate_count, run_watch, system_watch
from fennox.service.concerns.store_watch import of_store
from fennox.service.drops import missing_pushes
from fennox.service.foundation.fair_share import give_way
from fennox.service.keys import key_sets
from fennox.service.machines import sites
from fennox.service.machines.context import Context
from fennox.service.own_state import own_routine
from fennox.service.people import scopes
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import unhurried
from fennox.service.queries.selectors import PROTECTED
from fennox.service.systems import dependence, relations
from fennox.service.upkeep import clock_confirmation, clock_evidence
from fennox.service.upkeep.clock_evidence import Judged

WORKER_ALIVE = timedelta(minutes=1)
_WORKER_GONE = timedelta(minutes=2)
_WORKER_FORGOTTEN = timedelta(days=2)  # after this a lost worker is no longer expected
_SKEW = 30.0  # seconds
_SMALL = 500  # systems
_AT_ONCE = 50  # concerns
_LOOKING = 7203  # advisory lock
_LOOKED_FOR, _PAUSE = (
    20,
    0.05,
)  # attempts of a person's request to do the check itself, and seconds between them


async def database_now(context: Context, session: AsyncSession) -> datetime:
    """The clock that decides whether something is late."""
    if context.simulated:
        return context.now()
    moment: datetime = (await session.execute(select(func.now()))).scalar_one()
    return moment


async def look(context: Context, session: AsyncSession) -> bool:
    """Update the concerns and queue alerts, in one process at a time. False: another process is
    doing it.
    """
    if not (
        await session.execute(text(f"select pg_try_advisory_xact_lock({_LOOKING})"))
    ).scalar_one():
        return False
    with scopes.whole():
        begun, ended = await settle(context, session)
        await alert_messages.tell(context, session, begun, ended)
        await estate_count.count(context, session)
    return True


async def refresh(context: Context, session: AsyncSession) -> None:
    """A small estate is checked now; a large one was checked within the last minute. A check in
    progress may predate what the person just did, so its end is awaited, for a limited time.
    """
    if (await session.execute(select(func.count()).select_from(System))).scalar_one() > _SMALL:
        return
    for _ in range(_LOOKED_FOR):
        if await look(context, session):
            return
        await asyncio.sleep(_PAUSE)


async def settle(
    context: Context, session: AsyncSession
) -> tuple[list[ConcernRow], list[ConcernRow]]:
    """Store new concerns with their start; end those that no longer hold. Returns both."""
    now = await database_now(context, session)
    judged = await clock_evidence.judge(context, session)
    rows = await unhurried(
        session, select(ConcernRow).where(ConcernRow.ended.is_(None)), ConcernRow.key
    )
    before: dict[str, ConcernRow] = {row.key: row for (row,) in rows}
    begun: list[ConcernRow] = []
    seen = set()
    async for item in found(context, session, now, judged):
        if judged.doubts and item.code in _TIMED and item.key not in before:
            continue  # a clock that may be wrong must not report anything late
        seen.add(item.key)
        if len(seen) % _AT_ONCE == 0:
            await give_way(session)
        row = before.get(item.key)
        if row is None:
            row = await session.get(ConcernRow, item.key)
            if row is None:
                row = ConcernRow(key=item.key, muted_because="", muted_by="")
                session.add(row)
            row.since, row.ended = item.since or now, None
            begun.append(row)
        _say(row, item)
    over = [row for key, row in before.items() if key not in seen]
    ended = [row for row in over if not (judged.doubts and row.code in _TIMED)]
    for row in ended:
        row.ended = now
    await session.flush()
    return begun, ended


def _say(row: ConcernRow, item: ConcernFound) -> None:
    """PostgreSQL re-checks every column named in SET, changed or not, and writes the row again. So
    unchanged rows, often ten thousand, are omitted.
    """
    said = {
        "code": item.code,
        "severity": item.severity,
        "noun": item.noun,
        "about": item.about,
        "cause": item.told_with,
        "together": item.together,
        "text": item.text,
        "means": item.means,
        "remedy": item.remedy,
        "since": min(row.since, item.since) if item.since else row.since,
    }
    for name, value in said.items():
        if getattr(row, name) != value:
            setattr(row, name, value)


_TIMED = frozenset(
    {
        "late",
        "missed",
        "old",
        "clock",
        "not-scrubbed",
        "not-opened",
        "not-tried",
        "certificate",
        "own-state-old",
        "space",
    }
)
"""Concerns that say how long something is ago or ahead: a doubtful clock neither begins nor ends
them.
"""


async def found(
    context: Context, session: AsyncSession, now: datetime, judged: Judged
) -> AsyncIterator[ConcernFound]:
    """All present problems."""
    async for item in _clocks(session, judged):
        yield item
    for item in await run_watch.sweeps(session, judged.evidence.now):
        yield item
    async for item in _workers(session):
        yield item
    away = Away()
    async for item in run_watch.stuck(session):
        yield item
    for item in [*await attempts.concerns(session), *await approvals.concerns(session)]:
        yield item
    for item in await sites.concerns(session):
        away.sites.add(item.about)
        yield item
    async for item in _stores(context, session, away, now):
        yield item
    for item in await key_sets.concerns(context, session):
        yield item
    for item in await own_routine.concerns(context, session):
        yield item
    for item in await asyncio.to_thread(missing_pushes.not_listening, context):
        yield item
    async for item in system_watch.of_systems(context, session, away, now):
        yield item
    async for item in run_watch.failed(session, away):
        yield item
    async for item in run_watch.left_by_restores(session):
        yield item
    async for item in run_watch.unaccepted(session):
        yield item
    async for item in run_watch.given_up(session, away):
        yield item
    async for item in _routines(session):
        yield item


async def _clocks(session: AsyncSession, judged: Judged) -> AsyncIterator[ConcernFound]:
    if (disagreeing := clock_evidence.concern(judged)) is not None:
        yield disagreeing
    elif count := await clock_confirmation.misdated_backups(session):
        many = "1 backup was" if count == 1 else f"{count} backups were"
        yield ConcernFound(
            "misdated",
            "low",
            "service",
            "clocks",
            f"{many} taken while the clocks disagreed.",
            "See those with WRONG DATE in: fennox backup list. Clear one: fennox backup clear ID"
            " --because …. If all of their dates are right: fennox doctor clocks --believe-dates",
            "No ladder counts them by date, and they stay until somebody has looked.",
        )


async def _stores(
    context: Context, session: AsyncSession, away: Away, now: datetime
) -> AsyncIterator[ConcernFound]:
    """Adds unreachable ones to ``away``."""
    active = select(System).where(PROTECTED).order_by(System.name)
    systems = (await session.execute(active)).scalars().all()
    domains = await relations.resolved(context, session)
    for store in (await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars().all():
        login = await session.get(Login, store.login_id) if store.login_id else None
        for item in await of_store(context, session, store, now):
            if item.code == "store-away":
                away.stores[store.id] = store.name
            yield item
        for item in dependence.concerns(store, login, systems, domains):
            yield item


async def _workers(session: AsyncSession) -> AsyncIterator[ConcernFound]:
    now: datetime = (await session.execute(select(func.now()))).scalar_one()
    rows = list((await session.execute(select(Worker).where(Worker.stopped.is_(None)))).scalars())
    # a report dated in the future does not prove that it is alive
    alive = [row for row in rows if abs(now - row.seen) < _WORKER_GONE and not row.for_sites]
    if not alive:
        yield ConcernFound(
            "no-worker",
            "high",
            "service",
            "workers",
            "No worker is running; nothing is taken or restored.",
            "Start one with `fennox worker run`.",
        )
    for row in rows:
        if _has_successor(row, rows):
            continue
        if _WORKER_GONE <= now - row.seen < _WORKER_FORGOTTEN and alive:
            yield _gone(row)
        elif row in alive and abs(row.skew) > _SKEW:
            yield _skewed(row)


def _has_successor(row: Worker, rows: list[Worker]) -> bool:
    """Another worker was started on its machine since."""
    return any(one.name == row.name and one.started >= row.seen for one in rows if one is not row)


def _gone(row: Worker) -> ConcernFound:
    name = f"{row.name} ({row.id[:8]})"
    return ConcernFound(
        "worker-gone",
        "low",
        "service",
        name,
        f"The worker {name} was last heard from at {row.seen.astimezone(UTC):%Y-%m-%d %H:%M} UTC.",
        "Check its machine; other workers do its work.",
        since=row.seen,
    )


def _skewed(row: Worker) -> ConcernFound:
    name = f"{row.name} ({row.id[:8]})"
    return ConcernFound(
        "clock",
        "low",
        "service",
        name,
        f"The clock of the worker {name} differs from the database's by {row.skew:.0f} seconds.",
        "Synchronize both with a time server.",
    )


async def _routines(session: AsyncSession) -> AsyncIterator[ConcernFound]:
    there = select(System.id).where(PROTECTED)
    for routine in (await session.execute(select(Routine).order_by(Routine.name))).scalars().all():
        if routine.mode == "off":
            yield ConcernFound(
                "routine-off",
                "low",
                "routine",
                routine.name,
                f"The routine {routine.name} is off.",
                "Switch it on, or say that it is by hand on purpose.",
            )
        elif (
            await session.execute(there.where(*selectors.taken(routine.systems)).limit(1))
        ).first() is None:
            yield ConcernFound(
                "routine-empty",
                "low",
                "routine",
                routine.name,
                f"The routine {routine.name} fits no system: {routine.systems}.",
                "Change which systems it takes, or remove it.",
            )
