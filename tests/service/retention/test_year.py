"""A simulated year: two summer-time changes, a leap day, outages, clock steps. Every due time
counts exactly once.
"""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import select, update

from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.systems import System
from fennox.core.schedule import schedule
from fennox.service.machines.context import Context
from fennox.service.processes import due_takes
from fennox.service.queries import selectors
from fennox.service.retention import routines
from tests.service.contexts import SetClock, add_routine, add_store, add_system

MANY = 100  # systems from which on it is the long run
BEGIN = datetime(2027, 12, 1, 12, tzinfo=UTC)  # a leap day lies ahead
PHRASES = (
    "every day at 02:30",
    "every saturday at 23:15",
    "on the last day at 12:00",
    "15 4 * * 1-5",
    "every 30 hours",
    "RRULE:FREQ=MONTHLY;BYDAY=2TU;BYHOUR=2;BYMINUTE=30",
)


@pytest.fixture
def systems(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--systems"))


@pytest.mark.long
async def test_every_due_run_of_a_year_is_taken_once_or_caught_up_once(
    context: Context, clock: SetClock, systems: int
) -> None:
    chance = random.Random(17)
    clock.at = BEGIN
    store = await add_store(context)
    for number, phrase in enumerate(PHRASES):
        await add_routine(
            context,
            store,
            id=f"{number:032}",
            name=f"r-{number}",
            systems=f"label=r-{number}",
            when=phrase,
            zone="Europe/Oslo",
            spread=chance.choice((0, 90)),
            quiet=chance.choice(("", "08:00 to 10:00")),
            decided_until=BEGIN,
            created=BEGIN,
        )
    for number in range(systems):
        await add_system(context, f"s-{number}", labels=[f"r-{number % len(PHRASES)}"])
    async with context.session() as session:
        await session.execute(update(System).values(created=BEGIN))
    outages = [
        (BEGIN + timedelta(days=day), timedelta(hours=hours))
        for day, hours in ((40, 30), (118, 9), (300, 200))
    ]
    known = due_takes.Memory()
    away_since: datetime | None = None
    down: list[tuple[datetime, datetime]] = []
    longest = 3 if systems >= MANY else 15  # hours between two decisions
    moment = BEGIN
    while moment < BEGIN + timedelta(days=366):
        moment += timedelta(minutes=chance.choice((longest * 20, longest * 40, longest * 60)))
        if any(begin <= moment < begin + length for begin, length in outages):
            away_since = away_since or moment
            continue
        if away_since is not None:
            down.append((away_since, moment))
            away_since, known = (
                None,
                due_takes.Memory(),
            )  # the service starts anew and remembers nothing
        step = timedelta(
            minutes=chance.choice((0, 0, 0, -20))
        )  # a clock that is set back now and then
        clock.at = moment + step
        await due_takes.decide(context, known)
        async with context.session() as session:
            await session.execute(
                update(Run).where(Run.state == "queued").values(state="done", created=clock.at)
            )
    assert (
        await held_against_the_rules(context, BEGIN, clock.at, down, {}, timedelta(hours=longest))
        > 5 * systems
    )


def _united(
    intervals: list[tuple[datetime, datetime]],
) -> list[tuple[datetime, datetime]]:
    """Those that touch each other as one: a run may begin at the moment at which another ends, or
    at which the service is back.
    """
    united: list[tuple[datetime, datetime]] = []
    for since, until in sorted(intervals):
        if united and since <= united[-1][1]:
            united[-1] = (united[-1][0], max(united[-1][1], until))
        else:
            united.append((since, until))
    return united


async def held_against_the_rules(
    context: Context,
    begin: datetime,
    end: datetime,
    down: list[tuple[datetime, datetime]],
    busy: dict[str, list[tuple[datetime, datetime]]],
    step: timedelta,
) -> int:
    """How many runs there were. ``busy``: when each system had a run; ``step``: the longest between
    two decisions.

    Laid against the rule itself: nothing twice, nothing that was not due, nothing missing but what
    was caught up.
    """
    async with context.session() as session:
        all_routines = list((await session.execute(select(Routine))).scalars())
        every = list((await session.execute(select(System))).scalars())
        taken: dict[tuple[str, str], list[tuple[datetime, datetime]]] = {}
        for run in (await session.execute(select(Run).order_by(Run.due))).scalars():
            assert run.due is not None
            taken.setdefault((str(run.routine_id), str(run.system_id)), []).append(
                (run.due, run.created)
            )
    runs = 0
    for routine in all_routines:
        plan = schedule.parse(routine.when, routine.zone)
        for system in every:
            if not selectors.selects(routine.systems, system):
                assert (routine.id, system.id) not in taken
                continue
            place = schedule.place_in(routine.spread, system.id)
            due = list(plan.between(begin, end - place - step))
            mine = taken.get((routine.id, system.id), [])
            stood_in_its_way = _united([*down, *busy.get(system.id, [])])
            of_others = [
                [at for _, at in runs_of]
                for (other, of), runs_of in taken.items()
                if of == system.id and other != routine.id
            ]
            dates = [moment for moment, _ in mine if moment <= end - place - step]
            assert len(set(dates)) == len(dates), "a due time was taken twice"
            assert set(dates) <= set(due), "something was taken that was not due"
            for moment in set(due) - set(
                dates
            ):  # merged into a later one: the service was away, or all was quiet
                # perhaps into one that fell due shortly before the end
                later = min((one for one, _ in mine if one > moment), default=None)
                begun = next((at for one, at in mine if one == later), end)
                if not routine.quiet:
                    for theirs in of_others:
                        passed = [at for at in theirs if moment + place < at < begun]
                        assert len(passed) <= 2, f"{routine.name} waited for others again and again"
                if later is None:
                    still = any(
                        since <= moment + place + step and until >= end - step
                        for since, until in stood_in_its_way
                    )
                    assert still, f"{routine.when} of {system.name} at {moment} was lost"
                    continue
                quiet = bool(routine.quiet)
                away = any(
                    since <= routines.begins(routine, moment + place) + step
                    and since <= later + place + step
                    and moment + place <= until
                    for since, until in stood_in_its_way
                )
                close = later - moment <= step  # both were due between two decisions
                assert away or quiet or close, (
                    f"{moment} was merged into {later}, begun at {begun}, without a reason"
                )
            runs += len(dates)
    return runs
