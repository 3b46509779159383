"""What the scheduler sleeps for; and that it sleeps."""

from __future__ import annotations

import asyncio
from collections import Counter
from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import event, update

from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.systems import System
from fennox.service.foundation.alarm import Alarm
from fennox.service.machines.context import Context
from fennox.service.processes import scheduler
from tests.service.contexts import START, SetClock, add_routine, add_store, add_system
from tests.service.retention.test_routines import NEXT, finish_all, queued

HOUR = timedelta(hours=1)


class Passing:
    """A monotonic clock that a test lets go on."""

    def __init__(self) -> None:
        self.at = 100.0

    def __call__(self) -> float:
        return self.at


async def rings(alarm: Alarm) -> bool:
    try:
        async with asyncio.timeout(0):
            await alarm.wait()
    except TimeoutError:
        return False
    return True


@pytest.mark.parametrize(
    ("passes", "clock_shows", "expected"),
    [
        (1, START + HOUR - timedelta(seconds=1), False),
        (1, START + HOUR, True),  # its moment
        (1, START + 900 * HOUR, True),  # a clock that jumped over it
        (1, START - timedelta(seconds=2), True),  # a clock that went back
        (1, START - timedelta(seconds=0.5), False),  # that was set by a little
        (59, START, False),
        (60, START, True),  # a clock that stands still
    ],
)
async def test_it_rings_at_its_moment_whatever_the_clock_does(
    passes: float, clock_shows: Any, expected: bool
) -> None:
    passing = Passing()
    alarm = Alarm(60, passing)
    alarm.set(START, START + HOUR)
    passing.at += passes
    alarm.look(clock_shows)
    assert await rings(alarm) is expected


async def test_it_rings_once_and_for_a_call_at_any_time() -> None:
    alarm = Alarm(60, Passing())
    alarm.call()
    assert await rings(alarm), "also if it was called before it was set"
    alarm.set(START, START)
    alarm.look(START)
    assert await rings(alarm)
    alarm.look(START + HOUR)
    assert not await rings(alarm), "while its duty is carried out it rings for nothing but a call"


async def test_a_scheduler_without_anything_to_do_asks_nothing_and_is_told_of_changes(
    context: Context, clock: SetClock
) -> None:
    asked: Counter[str] = Counter()

    def count(_connection: object, _cursor: object, statement: str, *_more: object) -> None:
        asked["routines" if "FROM routines" in statement else "others"] += 1

    system = await add_system(context, "a")
    routine = await add_routine(context, await add_store(context), decided_until=START)
    running = asyncio.create_task(scheduler.Scheduler(context).run())

    async def decided(moment: Any) -> None:
        while ("a", moment) not in await queued(context):
            assert not running.done()
            await asyncio.sleep(0.02)
        await finish_all(context)

    try:
        clock.at = NEXT
        await decided(NEXT)
        event.listen(context.engine.sync_engine, "before_cursor_execute", count)
        quiet = 0
        while quiet < 40:  # ticks of a clock that stands still: twice as long as any round lasts
            before = asked.total()
            await asyncio.sleep(0.05)
            quiet = quiet + 1 if asked.total() == before else 0
            assert asked.total() < 400, f"it never rests: {asked}"
        async with context.session() as session:
            changed = {"when": "every day at 15:00", "version": 2, "decided_until": clock.at}
            await session.execute(update(Routine).where(Routine.id == routine).values(changed))
        clock.at = NEXT.replace(hour=15, minute=0)
        await decided(clock.at)
        async with context.session() as session:
            await session.execute(
                update(System).where(System.id == system).values(suspended_because="moved")
            )
        clock.at += timedelta(days=1)
        async with context.session() as session:
            await session.execute(
                update(System).where(System.id == system).values(suspended_because="")
            )
        await decided(clock.at)
    finally:
        running.cancel()
        await asyncio.gather(running, return_exceptions=True)
