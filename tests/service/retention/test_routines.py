"""What is due is queued once, missed times are caught up by one run, and what nothing keeps is
marked.
"""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime, timedelta

import icalendar
import pytest
from sqlalchemy import select, update

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput
from fennox.core.format.manifest import PartHeld
from fennox.core.retention import ladder
from fennox.service.concerns import alert_messages
from fennox.service.machines.context import Context
from fennox.service.processes import due_takes, scheduler
from fennox.service.queries import selectors
from fennox.service.retention import expiry, forecast, routines
from fennox.service.upkeep import store_duties
from tests.service.contexts import START, SetClock, add_backup, add_routine, add_store, add_system

NEXT = datetime(2026, 3, 2, 2, 40, tzinfo=UTC)


def said(why: dict[str, list[ladder.Reason]]) -> dict[str, list[str]]:
    return {
        backup: [ladder.in_words(reason) for reason in reasons] for backup, reasons in why.items()
    }


async def queued(context: Context) -> list[tuple[str, datetime | None]]:
    async with context.session() as session:
        rows = await session.execute(
            select(System.name, Run.due).join(System).order_by(System.name, Run.due)
        )
        return [(name, due) for name, due in rows]


async def finish_all(context: Context) -> None:
    async with context.session() as session:
        await session.execute(update(Run).values(state="done"))


async def test_nothing_is_queued_before_its_time_and_everything_once_at_it(
    context: Context, clock: SetClock
) -> None:
    await add_routine(context, await add_store(context))
    await add_system(context, "a")
    await add_system(context, "b")
    clock.at = NEXT - timedelta(seconds=1)
    await due_takes.decide(context)
    assert await queued(context) == []
    clock.at = NEXT
    await due_takes.decide(context)
    await due_takes.decide(context)
    assert await queued(context) == [("a", NEXT), ("b", NEXT)]


async def test_a_system_that_is_busy_at_its_time_is_taken_when_it_is_free(
    context: Context, clock: SetClock
) -> None:
    await add_routine(context, await add_store(context))
    await add_system(context, "a")
    clock.at = NEXT
    await due_takes.decide(context)
    clock.at = NEXT + timedelta(days=1)
    assert await due_takes.decide(context) is True, "something is left over"
    assert len(await queued(context)) == 1
    await finish_all(context)
    assert await due_takes.decide(context) is False
    assert await queued(context) == [("a", NEXT), ("a", NEXT + timedelta(days=1))]


async def test_after_a_week_away_one_run_catches_up(context: Context, clock: SetClock) -> None:
    await add_routine(context, await add_store(context))
    await add_system(context, "a")
    clock.at = NEXT + timedelta(days=7, hours=5)
    await due_takes.decide(context)
    assert await queued(context) == [("a", NEXT + timedelta(days=7))]


@pytest.mark.parametrize("mode", ["off", "by hand"])
async def test_a_routine_that_is_not_on_queues_nothing(
    context: Context, clock: SetClock, mode: str
) -> None:
    await add_routine(context, await add_store(context), mode=mode)
    await add_system(context, "a")
    clock.at = NEXT + timedelta(days=1)
    await due_takes.decide(context)
    assert await queued(context) == []
    async with context.session() as session:
        routine = (await session.execute(select(Routine))).scalar_one()
    assert routines.next_run(routine, clock()) is None


async def test_a_system_that_was_enrolled_after_a_due_time_is_not_late_for_it(
    context: Context, clock: SetClock
) -> None:
    await add_routine(context, await add_store(context))
    system = await add_system(context, "a")
    clock.at = NEXT + timedelta(hours=2)
    async with context.session() as session:
        await session.execute(
            update(System).where(System.id == system).values(created=NEXT + timedelta(hours=1))
        )
    await due_takes.decide(context)
    assert await queued(context) == []


async def test_systems_are_chosen_by_terms_that_must_all_fit(context: Context) -> None:
    for name, site, labels in (
        ("a", "holm", ["web"]),
        ("b", "holm", ["mail"]),
        ("c", "quay", ["web"]),
    ):
        await add_system(context, name, site=site, labels=labels)
    async with context.session() as session:
        systems = list((await session.execute(select(System).order_by(System.name))).scalars())

    def chosen(text: str) -> list[str]:
        return [system.name for system in systems if selectors.selects(text, system)]

    assert chosen("all") == ["a", "b", "c"]
    assert chosen("site=holm") == ["a", "b"]
    assert chosen("site=holm label=web") == ["a"]
    assert chosen("kind=linux-server name=c") == ["c"]
    assert chosen("kind=other") == []


@pytest.mark.parametrize("text", ["", "   ", "*", "web", "color=red", "site=", "all;drop"])
def test_a_choice_that_is_not_understood_is_refused_and_empty_never_means_everything(
    text: str,
) -> None:
    with pytest.raises(BadInput):
        selectors.check_selector(text)


async def test_backups_that_no_ladder_keeps_are_marked_and_held_ones_stay(
    context: Context, clock: SetClock
) -> None:
    store = await add_store(context)
    system = await add_system(context, "a")
    ages = [0, 1, 2, 10, 20]
    ids = [
        await add_backup(context, system, store, START - timedelta(days=days), 10 - number)
        for number, days in enumerate(ages)
    ]
    held = await add_backup(
        context, system, store, START - timedelta(days=50), 2, held=True, held_because="the move"
    )
    safety = await add_backup(
        context, system, store, START - timedelta(days=60), 1, purpose="safety"
    )
    await expiry.mark_expired(context)
    async with context.session() as session:
        marked = set((await session.execute(select(Backup.id).where(Backup.expired))).scalars())
    assert marked == set(), "without a routine nothing expires"
    await add_routine(context, store)
    await expiry.mark_expired(context)
    async with context.session() as session:
        marked = set((await session.execute(select(Backup.id).where(Backup.expired))).scalars())
    assert marked == {ids[3], ids[4], safety}
    assert held not in marked


async def test_everything_of_a_retired_system_stays_until_it_is_let_go(
    context: Context, clock: SetClock
) -> None:
    store = await add_store(context)
    system = await add_system(context, "a")
    times = [START - timedelta(days=days) for days in (0, 20, 40)]
    ids = [
        await add_backup(context, system, store, time, 9 - number)
        for number, time in enumerate(times)
    ]
    await add_routine(context, store)

    async def marked(**changes: object) -> set[str]:
        async with context.session() as session:
            await session.execute(update(System).values(**changes))
        await expiry.mark_expired(context)
        async with context.session() as session:
            return set((await session.execute(select(Backup.id).where(Backup.expired))).scalars())

    assert await marked(retired=START) == set()
    clock.at = NEXT
    await due_takes.decide(context)
    assert await queued(context) == [], "no routine takes it"
    assert await marked(let_go=True) == set(ids[1:])


async def test_a_backup_kept_by_any_of_several_routines_stays(context: Context) -> None:
    store = await add_store(context)
    system = await add_system(context, "a")
    for number in range(4):
        await add_backup(context, system, store, START - timedelta(days=100 * number), 9 - number)
    await add_routine(context, store)
    await add_routine(context, store, name="yearly", ladder="yearly for 3 years, always 4")
    await expiry.mark_expired(context)
    async with context.session() as session:
        assert (await session.execute(select(Backup).where(Backup.expired))).first() is None
        every = list((await session.execute(select(Routine))).scalars())
        backups = (await routines.backups_of(session, [system]))[system]
    why = said(routines.reasons(backups, every, START))
    assert why[backups[0].id] == ["daily for 3 days", "always 1", "yearly for 3 years", "always 4"]


async def test_every_system_begins_at_its_own_place_in_the_spread(
    context: Context, clock: SetClock
) -> None:
    await add_routine(context, await add_store(context), spread=60)
    ids = {await add_system(context, f"s-{number}"): number for number in range(6)}
    begun = []
    for minute in range(61):
        clock.at = NEXT + timedelta(minutes=minute)
        await due_takes.decide(context)
        begun.append(len(await queued(context)))
    assert begun[-1] == len(ids)
    assert len(set(begun)) > 3, "they do not begin together"
    assert {due for _, due in await queued(context)} == {NEXT}


async def test_in_quiet_hours_nothing_begins_and_what_came_due_begins_once_after_them(
    context: Context, clock: SetClock
) -> None:
    await add_routine(
        context, await add_store(context), when="every 30 minutes", quiet="02:00 to 05:00"
    )
    await add_system(context, "a")
    clock.at = NEXT.replace(hour=1, minute=59)
    await due_takes.decide(context)
    assert len(await queued(context)) == 1
    await finish_all(context)
    for hour in (2, 3, 4):
        clock.at = NEXT.replace(hour=hour, minute=45)
        await due_takes.decide(context)
    assert len(await queued(context)) == 1
    clock.at = NEXT.replace(hour=5, minute=0)
    await due_takes.decide(context)
    assert [due for _, due in await queued(context)] == [
        NEXT.replace(hour=1, minute=30),
        NEXT.replace(hour=5, minute=0),
    ]


async def test_a_suspended_system_is_not_taken_and_is_caught_up_once_when_it_goes_on(
    context: Context, clock: SetClock
) -> None:
    await add_routine(context, await add_store(context))
    system = await add_system(context, "a")
    async with context.session() as session:
        await session.execute(
            update(System).where(System.id == system).values(suspended_because="a restore goes on")
        )
    clock.at = NEXT + timedelta(days=3)
    await due_takes.decide(context)
    assert await queued(context) == []
    async with context.session() as session:
        await session.execute(
            update(System).where(System.id == system).values(suspended_because="")
        )
    await due_takes.decide(context)
    assert await queued(context) == [("a", NEXT + timedelta(days=3))]


async def test_what_comes_is_told_by_hours_with_runs_that_will_wait_and_as_a_calendar(
    context: Context, clock: SetClock
) -> None:
    store = await add_store(context)
    await add_routine(context, store)
    await add_routine(context, store, id="second", name="again", when="every day at 02:40")
    await add_system(context, "a")
    async with context.session() as session:
        found = await forecast.coming(context, session)
        text = (await forecast.calendar(context, session)).decode()
    assert (len(found.load), {item.runs for item in found.load}) == (14, {2})
    assert [(item.system, item.routine, item.waits_for) for item in found.collisions][:1] == [
        ("a", "nightly", "again")
    ]
    parsed = icalendar.Calendar.from_ical(text)
    events = [event for event in parsed.walk("VEVENT")]
    assert len(events) == 28
    assert events[0].decoded("dtstart") == NEXT
    assert str(events[0]["summary"]) == "nightly: 1 systems are taken"


async def test_a_backup_of_one_part_never_takes_the_place_of_a_whole_one(
    context: Context, clock: SetClock
) -> None:
    store = await add_store(context)
    await add_routine(context, store, ladder="daily for 30 days, always 2")
    await add_routine(
        context, store, id="h" * 32, name="history", ladder="always 1", parts=["history"]
    )
    system = await add_system(context, "a")
    hour = timedelta(hours=1)
    whole = [
        await add_backup(context, system, store, START - timedelta(days=n), 100 - n)
        for n in range(3)
    ]
    part = {"partial": True, "parts": [PartHeld(name="history", documents=1, bytes=1)]}
    old = await add_backup(context, system, store, START + hour / 2, 200, **part)
    new = await add_backup(context, system, store, START + hour, 201, **part)
    other = await add_backup(
        context,
        system,
        store,
        START + 2 * hour,
        202,
        partial=True,
        parts=[PartHeld(name="settings", documents=1, bytes=1)],
    )
    async with context.session() as session:
        rows = (await routines.backups_of(session, [system]))[system]
        every = list((await session.execute(select(Routine))).scalars())
    why = said(routines.reasons(rows, every, START + timedelta(hours=3)))
    assert all("daily for 30 days" in why[backup] for backup in whole)
    assert (why[old], why[new]) == ([], ["always 1"]), "its own routine has the say over the part"
    assert why[other] == ["daily for 30 days", "always 2"], (
        "what a person took of some parts counts by itself"
    )


async def test_a_mistake_in_one_duty_keeps_no_other_from_its_work(
    context: Context, clock: SetClock, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def broken(_context: Context) -> None:
        raise ValueError("a mistake")

    monkeypatch.setattr(alert_messages, "send_due", broken)
    monkeypatch.setattr(store_duties, "tend", broken)
    await add_routine(context, await add_store(context))
    await add_system(context, "a")
    running = asyncio.create_task(scheduler.Scheduler(context).run())
    try:
        for due in (NEXT, NEXT + timedelta(days=1)):
            clock.at = due
            while ("a", due) not in await queued(context):
                assert not running.done()
                await asyncio.sleep(0.02)
            await finish_all(context)
    finally:
        running.cancel()
        await asyncio.gather(running, return_exceptions=True)


async def test_two_routines_of_one_system_take_turns(context: Context, clock: SetClock) -> None:
    """Both are due at every decision, and one system has one run at a time: none of them may
    starve.
    """
    store = await add_store(context)
    first = await add_routine(context, store, name="a", when="every 5 minutes")
    second = await add_routine(context, store, name="b", when="every 5 minutes")
    await add_system(context, "s")
    memory = due_takes.Memory()
    taken: list[str] = []
    for _ in range(6):
        clock.at += timedelta(minutes=7)
        assert await due_takes.decide(context, memory) is True, "the other one waits"
        async with context.session() as session:
            [run] = (await session.execute(select(Run).where(Run.state == "queued"))).scalars()
            taken.append(str(run.routine_id))
            run.state = "done"
    assert sorted(taken[:2]) == sorted([first, second])
    assert taken == taken[:2] * 3
