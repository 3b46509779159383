"""Finding the takes due by routines, in one process at a time."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from sqlalchemy import Numeric, func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.schedule import moments, schedule
from fennox.service.foundation.fair_share import give_way
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import unhurried
from fennox.service.retention import routines
from fennox.service.runs import new_runs

_DECIDING = 7202  # advisory lock: one process decides at a time


_NEVER = timedelta(days=1)  # before an expired rule is checked again


_TOGETHER = 200  # rows


@dataclass
class Memory:
    """Cache of one process by routine version and system. ``decided``: last due time handled.
    ``later``: nothing is due before this moment. ``seen``: newest moment used; a clock that goes
    back invalidates the cache.
    """

    decided: dict[tuple[str, int], dict[str, datetime]] = field(default_factory=dict)
    later: dict[tuple[str, int, str], datetime] = field(default_factory=dict)
    estate: str = ""  # as of the last full check; nothing is due before ``nothing_before``
    nothing_before: datetime | None = None
    seen: datetime | None = None

    def forget_the_future(self, now: datetime) -> None:
        if self.seen is not None and moments.is_future(self.seen, now):
            self.decided.clear()
            self.later.clear()
            self.nothing_before = None
        self.seen = now


async def decide(context: Context, memory: Memory | None = None) -> bool:
    """Queue due takes. Returns whether one had to wait for an active run of its system. Deciding
    twice is harmless: routine, system and due time are unique together.
    """
    memory = memory or Memory()
    memory.forget_the_future(context.now())
    left_over = False
    async with context.session() as session:
        lock = text(f"select pg_try_advisory_xact_lock({_DECIDING})")
        if not (await session.execute(lock)).scalar_one():
            return True
        every = (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all()
        estate = await _estate(session, every)
        before = memory.nothing_before
        if memory.estate == estate and before is not None and context.now() < before:
            return False
        memory.estate, memory.nothing_before = estate, None
        due, following = await _all_due(context, session, every, memory)
        # the longest unserved goes first; otherwise the second of two routines of a system might
        # never run
        for found in sorted(due, key=lambda one: one.since):
            left_over |= not await _queue(context, session, found, memory)
    memory.nothing_before = None if left_over else following
    return left_over


async def _all_due(
    context: Context, session: AsyncSession, every: Sequence[Routine], memory: Memory
) -> tuple[list[Due], datetime]:
    """The due takes, and the moment before which nothing else is due."""
    now = context.now()
    following = now + _NEVER
    reads: dict[tuple[str, str], bool] = {}
    systems: list[System] = [row[0] for row in await unhurried(session, select(System))]
    systems.sort(key=lambda row: row.name)
    due: list[Due] = []
    for routine in every:
        key = (routine.id, routine.version)
        if key not in memory.decided:
            memory.decided[key] = await routines.decided_last(session, routine)
        for number, system in enumerate(systems):
            if number % _TOGETHER == 0:
                await give_way(session)
            if system.suspended_because or system.retired:
                continue
            if not selectors.takes(routine.systems, system):
                continue
            about = (routine.id, system.kind)
            if about not in reads:
                reads[about] = _reads(context, routine, system)
            if not reads[about]:
                continue  # what it has comes by itself
            if (found := _due(now, routine, system, memory)) is not None:
                due.append(found)
            following = min(following, memory.later.get((*key, system.id), now))
    return due, following


def _reads(context: Context, routine: Routine, system: System) -> bool:
    """Whether the routine reads anything from such a system. An unknown kind fails as a run."""
    kind = context.kinds.installed(system.kind)
    if kind is None:
        return True
    named = [part for part in kind.part if part.name in (routine.parts or ())]
    return kind.is_reached and not (named and all(part.comes_by_itself for part in named))


async def _estate(session: AsyncSession, every: Sequence[Routine]) -> str:
    """A digest of everything that determines due takes. While it is unchanged and nothing is due,
    no system needs to be checked.
    """
    said = func.concat_ws(
        "|",
        System.id,
        System.version,
        System.suspended_because,
        System.retired,
        System.spare,
        System.labels,
    )
    of_systems = func.sum(func.hashtextextended(said, 0).cast(Numeric))
    systems = (await session.execute(select(func.count(), of_systems).select_from(System))).one()
    return f"{systems} {sorted((routine.id, routine.version) for routine in every)}"


@dataclass(frozen=True)
class Due:
    """A take due by a routine. ``since``: its due times up to here were handled."""

    routine: Routine
    system: System
    since: datetime
    at: datetime


def _due(now: datetime, routine: Routine, system: System, memory: Memory) -> Due | None:
    key = (routine.id, routine.version, system.id)
    if now < memory.later.get(key, now):
        return None
    decided = memory.decided[routine.id, routine.version]
    place = schedule.place_in(routine.spread, system.id)
    plan = schedule.parse(routine.when, routine.zone)
    since = routines.decided_up_to(now, routine, system, decided.get(system.id))
    due = plan.newest_due(since, now - place)
    if due is None:
        following = plan.after(max(since, now - place))
        memory.later[key] = following + place if following is not None else now + _NEVER
        return None
    if (begins := routines.begins(routine, max(due + place, now))) > now:
        memory.later[key] = begins
        return None
    return Due(routine, system, since, due)


async def _queue(context: Context, session: AsyncSession, due: Due, memory: Memory) -> bool:
    """Whether this routine and system need no further decision."""
    try:
        try:
            await _enqueue(context, session, due, due.at)
        except Conflict as error:
            if not error.fields.get("decided"):
                raise
            if await _decided_before_the_clock_went_back(session, due):
                await _enqueue(context, session, due, None)
    except Conflict:
        return False  # a run of this system is active; it is decided again when that has ended
    memory.decided[due.routine.id, due.routine.version][due.system.id] = due.at
    return True


async def _enqueue(context: Context, session: AsyncSession, due: Due, at: datetime | None) -> None:
    routine, system = due.routine, due.system
    await new_runs.enqueue(
        session,
        TakeOrder(parts=routine.parts),
        new_runs.About(
            system_id=system.id,
            store_id=routine.store_id,
            routine_id=routine.id,
            backup_id=secrets.token_hex(16),
        ),
        by=f"routine {routine.name}",
        now=context.now(),
        due=at,
    )


async def _decided_before_the_clock_went_back(session: AsyncSession, due: Due) -> bool:
    """Whether a due time recurs because the clock went back, in which case takes continue.
    Otherwise another process handled it just now. A newer run without a due time shows that it was
    handled this time as well.
    """
    mine = (Run.routine_id == due.routine.id, Run.system_id == due.system.id)
    numbered = select(func.max(Run.number)).where(*mine, Run.due == due.at)
    then = (await session.execute(numbered)).scalar_one_or_none() or 0
    last = (
        await session.execute(select(func.max(Run.number)).where(*mine, Run.due.is_not(None)))
    ).scalar_one()
    again = select(Run.id).where(*mine, Run.due.is_(None), Run.number > last, Run.created >= due.at)
    return then < last and (await session.execute(again.limit(1))).first() is None
