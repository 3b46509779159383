"""Forecast: load by hour, runs that will wait for each other, and a calendar of due times."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from datetime import datetime, timedelta
from itertools import pairwise

from sqlalchemy import func, select, true
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.systems import System
from fennox.core.schedule import schedule
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.selectors import PROTECTED
from fennox.service.retention import routines
from fennox.wire.routines import Collision, Coming, Load

AHEAD = timedelta(days=14)
_MOST = 50  # collisions listed
_UNKNOWN = 60.0  # expected seconds of a system's first take
_LOOKED_AT = 10  # takes
_TURN = 200  # systems processed before yielding this thread


async def expected_seconds(session: AsyncSession) -> dict[str, float]:
    """Each system's median over its last few takes."""
    seconds = func.extract("epoch", Run.ended - Run.started).label("seconds")
    done = (Run.system_id == System.id, Run.kind == "take", Run.state == constant("done"))
    last = (
        select(seconds).where(*done).order_by(Run.created.desc()).limit(_LOOKED_AT).lateral("last")
    )
    median = func.percentile_cont(0.5).within_group(last.c.seconds)
    query = select(System.id, median).join(last, true()).group_by(System.id)
    return {str(system): float(found) for system, found in await session.execute(query)}


async def coming(context: Context, session: AsyncSession) -> Coming:
    expected = await expected_seconds(session)
    now = context.now()
    hours: dict[datetime, tuple[int, float]] = {}
    begun_by: dict[str, list[tuple[Routine, list[datetime]]]] = defaultdict(list)
    names: dict[str, str] = {}
    for routine in (
        (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all()
    ):
        due = list(schedule.parse(routine.when, routine.zone).between(now, now + AHEAD))
        for number, (system, name) in enumerate(await _taken(session, routine)):
            if number % _TURN == 0:
                await context.turns.give_way()
            names[system] = name
            seconds = expected.get(system, _UNKNOWN)
            begins = _begins(routine, due, schedule.place_in(routine.spread, system))
            for moment in begins:
                hour = moment.replace(minute=0, second=0, microsecond=0)
                runs, work = hours.get(hour, (0, 0.0))
                hours[hour] = (runs + 1, work + seconds)
            begun_by[system].append((routine, begins))
    collisions: list[Collision] = []
    for number, (system, by_routine) in enumerate(begun_by.items()):
        if number % _TURN == 0:
            await context.turns.give_way()
        length = timedelta(seconds=expected.get(system, _UNKNOWN))
        collisions += _collisions(names[system], by_routine, length)
    load = [
        Load(hour=hour, runs=runs, seconds=work) for hour, (runs, work) in sorted(hours.items())
    ]
    return Coming(
        load=load,
        collisions=sorted(collisions, key=lambda item: (item.at, item.system))[:_MOST],
        slots=context.settings.workers,
    )


def _collisions(
    system: str, by_routine: list[tuple[Routine, list[datetime]]], length: timedelta
) -> Iterator[Collision]:
    """Runs that start before the previous one has ended, if each takes ``length``."""
    every = sorted((moment, routine.name) for routine, begins in by_routine for moment in begins)
    for (earlier, first), (later, second) in pairwise(every):
        if later < earlier + length:
            yield Collision(system=system, at=later, routine=second, waits_for=first)


def _begins(routine: Routine, due: list[datetime], place: timedelta) -> list[datetime]:
    if not routine.quiet:
        return [moment + place for moment in due]
    return [routines.begins(routine, moment + place) for moment in due]


async def _taken(session: AsyncSession, routine: Routine) -> list[tuple[str, str]]:
    """Id and name of each system the routine takes now."""
    there = (System.suspended_because == "", PROTECTED)
    rows = (
        select(System.id, System.name)
        .where(*selectors.taken(routine.systems), *there)
        .order_by(System.name)
    )
    return [(row.id, row.name) for row in await session.execute(rows)]


async def calendar(context: Context, session: AsyncSession) -> bytes:
    """One event for each routine and due time of the coming two weeks (RFC 5545)."""
    import icalendar  # imported on demand: it is large

    now = context.now()
    found = icalendar.Calendar()
    found.add("prodid", "-//Fennox//coming runs//EN")
    found.add("version", "2.0")
    for routine in (
        (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all()
    ):
        names = [name for _, name in await _taken(session, routine)]
        for due in schedule.parse(routine.when, routine.zone).between(now, now + AHEAD):
            event = icalendar.Event()
            event.add("uid", f"{routine.id}-{int(due.timestamp())}@fennox")
            event.add("dtstamp", now)
            event.add("dtstart", routines.begins(routine, due))
            event.add("duration", timedelta(minutes=max(routine.spread, 15)))
            event.add("summary", f"{routine.name}: {len(names)} systems are taken")
            event.add("description", f"{routine.when} ({routine.zone}): {', '.join(names[:50])}")
            found.add_component(event)
    return bytes(found.to_ical())
