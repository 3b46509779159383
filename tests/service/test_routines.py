"""What is due is queued once, missed times are caught up by one run, and what nothing keeps is marked."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import select, update

from fennox.catalogue.models import Backup, Routine, Run, System
from fennox.core.errors import BadInput
from fennox.service import routines, scheduler
from fennox.service.context import Context
from tests.database import database, postgres
from tests.service.contexts import (
    START,
    SetClock,
    add_backup,
    add_routine,
    add_store,
    add_system,
    clock,
    context,
)

__all__ = ["clock", "context", "database", "postgres"]

NEXT = datetime(2026, 3, 2, 2, 40, tzinfo=UTC)


async def queued(context: Context) -> list[tuple[str, datetime | None]]:
    async with context.session() as session:
        rows = await session.execute(select(System.name, Run.due).join(System).order_by(System.name, Run.due))
        return [(name, due) for name, due in rows]


async def finish_all(context: Context) -> None:
    async with context.session() as session:
        await session.execute(update(Run).values(state="done"))


async def test_nothing_is_queued_before_its_time_and_everything_once_at_it(context: Context, clock: SetClock) -> None:
    await add_routine(context, await add_store(context))
    await add_system(context, "a")
    await add_system(context, "b")
    clock.at = NEXT - timedelta(seconds=1)
    await scheduler.decide(context)
    assert await queued(context) == []
    clock.at = NEXT
    await scheduler.decide(context)
    await scheduler.decide(context)
    assert await queued(context) == [("a", NEXT), ("b", NEXT)]


async def test_a_system_that_is_busy_at_its_time_is_taken_when_it_is_free(context: Context, clock: SetClock) -> None:
    await add_routine(context, await add_store(context))
    await add_system(context, "a")
    clock.at = NEXT
    await scheduler.decide(context)
    clock.at = NEXT + timedelta(days=1)
    assert await scheduler.decide(context) is True, "something is left over"
    assert len(await queued(context)) == 1
    await finish_all(context)
    assert await scheduler.decide(context) is False
    assert await queued(context) == [("a", NEXT), ("a", NEXT + timedelta(days=1))]


async def test_after_a_week_away_one_run_catches_up(context: Context, clock: SetClock) -> None:
    await add_routine(context, await add_store(context))
    await add_system(context, "a")
    clock.at = NEXT + timedelta(days=7, hours=5)
    await scheduler.decide(context)
    assert await queued(context) == [("a", NEXT + timedelta(days=7))]


@pytest.mark.parametrize("mode", ["off", "by hand"])
async def test_a_routine_that_is_not_on_queues_nothing(context: Context, clock: SetClock, mode: str) -> None:
    await add_routine(context, await add_store(context), mode=mode)
    await add_system(context, "a")
    clock.at = NEXT + timedelta(days=1)
    await scheduler.decide(context)
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
        await session.execute(update(System).where(System.id == system).values(created=NEXT + timedelta(hours=1)))
    await scheduler.decide(context)
    assert await queued(context) == []


async def test_systems_are_chosen_by_terms_that_must_all_fit(context: Context) -> None:
    for name, site, labels in (("a", "holm", ["web"]), ("b", "holm", ["mail"]), ("c", "quay", ["web"])):
        await add_system(context, name, site=site, labels=labels)
    async with context.session() as session:
        systems = list((await session.execute(select(System).order_by(System.name))).scalars())

    def chosen(text: str) -> list[str]:
        return [system.name for system in systems if routines.selects(text, system)]

    assert chosen("all") == ["a", "b", "c"]
    assert chosen("site=holm") == ["a", "b"]
    assert chosen("site=holm label=web") == ["a"]
    assert chosen("kind=linux-server name=c") == ["c"]
    assert chosen("kind=other") == []


@pytest.mark.parametrize("text", ["", "   ", "*", "web", "color=red", "site=", "all;drop"])
def test_a_choice_that_is_not_understood_is_refused_and_empty_never_means_everything(text: str) -> None:
    with pytest.raises(BadInput):
        routines.check_selector(text)


async def test_backups_that_no_ladder_keeps_are_marked_and_held_ones_stay(context: Context, clock: SetClock) -> None:
    store = await add_store(context)
    system = await add_system(context, "a")
    ages = [0, 1, 2, 10, 20]
    ids = [
        await add_backup(context, system, store, START - timedelta(days=days), 10 - number)
        for number, days in enumerate(ages)
    ]
    held = await add_backup(context, system, store, START - timedelta(days=50), 2, held=True, held_because="the move")
    safety = await add_backup(context, system, store, START - timedelta(days=60), 1, purpose="safety")
    await scheduler.mark_expired(context)
    async with context.session() as session:
        marked = set((await session.execute(select(Backup.id).where(Backup.expired))).scalars())
    assert marked == set(), "without a routine nothing expires"
    await add_routine(context, store)
    await scheduler.mark_expired(context)
    async with context.session() as session:
        marked = set((await session.execute(select(Backup.id).where(Backup.expired))).scalars())
    assert marked == {ids[3], ids[4], safety}
    assert held not in marked


async def test_a_backup_kept_by_any_of_several_routines_stays(context: Context) -> None:
    store = await add_store(context)
    system = await add_system(context, "a")
    for number in range(4):
        await add_backup(context, system, store, START - timedelta(days=100 * number), 9 - number)
    await add_routine(context, store)
    await add_routine(context, store, name="yearly", ladder="yearly for 3 years, always 4")
    await scheduler.mark_expired(context)
    async with context.session() as session:
        assert (await session.execute(select(Backup).where(Backup.expired))).first() is None
        every = list((await session.execute(select(Routine))).scalars())
        backups = await routines.backups_of(session, system)
    why = routines.reasons(backups, every, START)
    assert why[backups[0].id] == ["daily for 3 days", "always 1", "yearly for 3 years", "always 4"]
