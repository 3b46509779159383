"""Whatever routines there are, however long runs last, whenever the service is away: every due time
counts once.
"""

from __future__ import annotations

import asyncio
import random
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select, text, update

from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.systems import System
from fennox.service.foundation import key_file
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context, open_context
from fennox.service.processes import due_takes
from tests.core.test_schedule import phrases
from tests.service.contexts import SetClock, add_routine, add_store, add_system
from tests.service.retention.test_year import held_against_the_rules

BEGIN = datetime(2028, 3, 20, 12, tzinfo=UTC)  # clocks change six days later
DAYS = 12
STEP = timedelta(hours=4)  # the longest between two decisions

rules = st.tuples(
    phrases,
    st.sampled_from(["UTC", "Europe/Oslo", "America/St_Johns"]),
    st.sampled_from([0, 45, 180]),
    st.sampled_from(["", "08:00 to 10:00", "22:00 to 05:00"]),
)


_MOST_ROUTINES = 3


@dataclass
class Story:
    """What happened: when the service was away, and when each system was busy."""

    down: list[tuple[datetime, datetime]] = field(default_factory=list)
    busy: dict[str, list[tuple[datetime, datetime]]] = field(default_factory=dict)


@settings(
    max_examples=max(2, settings().max_examples // 50),
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(
    st.lists(rules, min_size=1, max_size=_MOST_ROUTINES),
    st.integers(1, 3),
    st.randoms(use_true_random=False),
)
def test_every_due_time_counts_once(
    database: str,
    tmp_path_factory: pytest.TempPathFactory,
    wanted: list[tuple[str, str, int, str]],
    systems: int,
    chance: random.Random,
) -> None:
    asyncio.run(_lived_through(database, tmp_path_factory.mktemp("state"), wanted, systems, chance))


async def _lived_through(
    database: str,
    state: Path,
    wanted: list[tuple[str, str, int, str]],
    systems: int,
    chance: random.Random,
) -> None:
    clock = SetClock()
    clock.at = BEGIN
    made = Settings(database=database, state=state, weak_slots=True)
    context = await open_context(made, clock, key_file.load(made.state), simulated=True)
    try:
        async with context.session() as session:
            await session.execute(
                text("truncate runs, routines, systems, logins, stores, key_sets cascade")
            )
        store = await add_store(context)
        for number, (phrase, zone, spread, quiet) in enumerate(wanted):
            await add_routine(
                context,
                store,
                id=f"{number:032}",
                name=f"r-{number}",
                when=phrase,
                zone=zone,
                spread=spread,
                quiet=quiet,
                decided_until=BEGIN,
                created=BEGIN,
            )
        for number in range(systems):
            await add_system(
                context, f"s-{number}", id=f"{number:032}"
            )  # its place in a spread follows from it
        async with context.session() as session:
            await session.execute(update(System).values(created=BEGIN))
        story = await _twelve_days(context, clock, chance)
        await held_against_the_rules(context, BEGIN, clock.at, story.down, story.busy, STEP)
    finally:
        await context.engine.dispose()


_QUEUED = (
    select(Run).where(Run.state == "queued").order_by(Run.number)
)  # the same story must come out the same way


async def _twelve_days(context: Context, clock: SetClock, chance: random.Random) -> Story:
    story, known = Story(), due_takes.Memory()
    while clock.at < BEGIN + timedelta(days=DAYS):
        if chance.random() < 0.02:
            away = timedelta(hours=chance.randint(1, 60))
            story.down.append((clock.at, clock.at + away))
            clock.at += away
            known = due_takes.Memory()  # a new process remembers nothing
        else:
            clock.at += timedelta(minutes=chance.randint(10, 240))
        for _ in range(
            _MOST_ROUTINES
        ):  # what had to wait for a run is decided again once that has ended
            left_over = await due_takes.decide(context, known)
            async with context.session() as session:
                for run in (await session.execute(_QUEUED)).scalars():
                    run.created = run.started = run.started or clock.at
                    if chance.random() < 0.7:
                        run.state = "done"
                        story.busy.setdefault(str(run.system_id), []).append(
                            (run.created, clock.at)
                        )
            if not left_over:
                break
    async with context.session() as session:
        for run in (await session.execute(_QUEUED)).scalars():
            story.busy.setdefault(str(run.system_id), []).append(
                (run.created, clock.at + timedelta(days=400))
            )
    return story
