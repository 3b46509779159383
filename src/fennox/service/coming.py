"""What is to come: load by hours, runs that will wait for each other, and a calendar of due times."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime, timedelta
from itertools import pairwise

import icalendar
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Routine, Run, System
from fennox.core import schedule
from fennox.service import routines
from fennox.service.context import Context
from fennox.wire.routines import Collision, Coming, Load

AHEAD = timedelta(days=14)
_MOST = 50  # collisions that are told
_UNKNOWN = 60.0  # seconds that a system's first take is expected to last


async def expected_seconds(session: AsyncSession) -> dict[str, float]:
    """Of each system the median of its takes so far."""
    seconds = func.extract("epoch", Run.ended - Run.started)
    median = func.percentile_cont(0.5).within_group(seconds)
    query = select(Run.system_id, median).where(Run.kind == "take", Run.state == "done", Run.system_id.is_not(None))
    return {str(system): float(found) for system, found in await session.execute(query.group_by(Run.system_id))}


async def coming(context: Context, session: AsyncSession) -> Coming:
    expected = await expected_seconds(session)
    now = context.now()
    hours: dict[datetime, list[float]] = defaultdict(list)
    by_system: dict[str, list[tuple[datetime, str]]] = defaultdict(list)
    names = {}
    for routine in (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all():
        due = list(schedule.parse(routine.when, routine.zone).between(now, now + AHEAD))
        for system in await _taken(session, routine):
            names[system.id] = system.name
            place = schedule.place_in(routine.spread, system.id)
            for moment in due:
                begins = routines.begins(routine, moment + place)
                hours[begins.replace(minute=0, second=0, microsecond=0)].append(expected.get(system.id, _UNKNOWN))
                by_system[system.id].append((begins, routine.name))
    collisions = []
    for system_id, runs in by_system.items():
        runs.sort()
        length = timedelta(seconds=expected.get(system_id, _UNKNOWN))
        for (earlier, first), (later, second) in pairwise(runs):
            if later < earlier + length:
                collisions.append(Collision(system=names[system_id], at=later, routine=second, waits_for=first))
    return Coming(
        load=[Load(hour=hour, runs=len(found), seconds=sum(found)) for hour, found in sorted(hours.items())],
        collisions=sorted(collisions, key=lambda item: (item.at, item.system))[:_MOST],
        slots=context.settings.workers,
    )


async def _taken(session: AsyncSession, routine: Routine) -> list[System]:
    members = await routines.members(session, routine)
    return [system for system in members if not system.suspended_because and system.retired is None]


async def calendar(context: Context, session: AsyncSession) -> bytes:
    """One event for each routine and due time of the coming two weeks (RFC 5545)."""
    now = context.now()
    found = icalendar.Calendar()
    found.add("prodid", "-//Fennox//coming runs//EN")
    found.add("version", "2.0")
    for routine in (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all():
        names = [system.name for system in await _taken(session, routine)]
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
