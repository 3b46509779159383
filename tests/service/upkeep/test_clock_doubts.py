"""A clock is evidence: while it is in doubt nothing goes and nothing is called late, and takes go
on.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import func, select, update

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.runs import Routine, Run, Worker
from fennox.catalogue.models.service import ServiceState
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.retention import removal
from fennox.service.concerns import estate_watch
from fennox.service.foundation import key_file, session_guard
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context, open_context
from fennox.service.processes import due_takes, scheduler
from fennox.service.queries.newest_good import newest_record
from fennox.service.retention import expiry
from fennox.service.runs import claims, new_runs, queue
from fennox.service.runs.claims import Claimant
from fennox.service.runs.lost_workers import LeaseWatch
from fennox.service.upkeep import clock_confirmation, clock_evidence, sweep_run
from tests.service.contexts import (
    ORDERS,
    START,
    SetClock,
    add_backup,
    add_routine,
    add_store,
    add_system,
)

MINUTE, HOUR, DAY, YEAR = (
    timedelta(minutes=1),
    timedelta(hours=1),
    timedelta(days=1),
    timedelta(days=365),
)


@pytest.fixture
async def real(
    database: str, tmp_path: Path, clock: SetClock, monkeypatch: pytest.MonkeyPatch
) -> AsyncIterator[Context]:
    """A service that does not live by a simulated clock: its clock is compared with
    PostgreSQL's.
    """
    monkeypatch.setattr(session_guard, "strict", True)
    clock.at = datetime.now(UTC)
    settings = Settings(database=database, state=tmp_path / "state", weak_slots=True)
    made = await open_context(settings, clock, key_file.load(settings.state), simulated=False)
    yield made
    await made.engine.dispose()


async def doubts(context: Context) -> list[str]:
    async with context.session() as session:
        return (await clock_evidence.judge(context, session)).sentences


async def marked(context: Context) -> set[str]:
    async with context.session() as session:
        return set((await session.execute(select(Backup.id).where(Backup.expired))).scalars())


async def concerns(context: Context) -> set[str]:
    async with context.session() as session:
        judged = await clock_evidence.judge(context, session)
        return {
            item.code async for item in estate_watch.found(context, session, context.now(), judged)
        }


async def standing(context: Context) -> set[str]:
    """Codes of what stands once all was looked at."""
    async with context.session() as session:
        await estate_watch.settle(context, session)
        rows = await session.execute(select(ConcernRow.code).where(ConcernRow.ended.is_(None)))
        return set(rows.scalars())


async def confirm(context: Context, *, believe: bool = False) -> list[str]:
    async with context.session() as session:
        judged = await clock_evidence.judge(context, session)
        return await clock_confirmation.confirm(session, judged, "mara", believe=believe)


async def estate(context: Context, now: datetime, count: int = 8) -> tuple[str, str, list[str]]:
    """A system with a backup a day, a routine that keeps three of them, and a store."""
    store, system = await add_store(context), await add_system(context, "web-9")
    await add_routine(
        context,
        store,
        ladder="daily for 30 days, always 3",
        created=now - YEAR,
        decided_until=now - DAY,
    )
    async with context.session() as session:
        await session.execute(update(System).values(created=now - YEAR))
        await session.execute(update(StoreRow).values(created=now, scrubbed=now, swept=now))
    ids = [
        await add_backup(context, system, store, now - (count - n) * DAY, n + 1)
        for n in range(count)
    ]
    return store, system, ids


@pytest.mark.parametrize("off", [3 * MINUTE, DAY, YEAR, -3 * MINUTE, -DAY, -YEAR])
async def test_by_a_clock_unlike_the_databases_nothing_is_marked_and_by_the_right_one_it_is(
    real: Context, clock: SetClock, off: timedelta
) -> None:
    true = clock.at
    _, _, ids = await estate(real, true - 40 * DAY)  # all but three are too old
    assert await scheduler.tend(real)
    before = await marked(real)
    assert before == set(ids[:-3])
    async with real.session() as session:
        await session.execute(update(Backup).values(expired=False, expired_at=None, expired_by=""))
        await session.execute(update(ServiceState).values(tended=None))
    clock.at = true + off
    assert not await scheduler.tend(real)
    assert await marked(real) == set()
    assert any("PostgreSQL is" in text for text in await doubts(real))
    assert {"clocks"} <= await concerns(real)
    clock.at = datetime.now(UTC)
    assert await scheduler.tend(real), "it goes on by itself once they agree"
    assert await marked(real) == before


@pytest.mark.parametrize("off", [MINUTE, -MINUTE])
async def test_a_minute_is_no_difference(real: Context, clock: SetClock, off: timedelta) -> None:
    clock.at += off
    assert await scheduler.tend(real)
    assert await doubts(real) == []


async def test_on_one_machine_a_jump_of_a_year_is_noticed_and_a_person_goes_on(
    context: Context, clock: SetClock
) -> None:
    _, _, ids = await estate(context, START)
    assert await scheduler.tend(context)
    clock.at = START + YEAR  # of the database too, which a simulated clock is not compared with
    assert not await scheduler.tend(context)
    assert (await marked(context), len(await doubts(context))) == (set(), 1)
    assert await confirm(context) == ["The time since the last tending is as it should be."]
    assert await scheduler.tend(context), "it really was a year"
    assert await marked(context) == set(ids[:-3])
    async with context.session() as session:
        waits = removal.waits(
            await sweep_run.standing(
                session, (await session.execute(select(StoreRow.id))).scalar_one()
            ),
            context.now(),
        )
    assert set(waits.values()) <= removal.BY_A_PERSON, (
        "so many at one time wait for a person all the same"
    )


async def test_what_is_taken_while_clocks_disagree_stays_and_counts_for_no_ladder(
    context: Context, clock: SetClock
) -> None:
    store, system, ids = await estate(context, START)
    assert await scheduler.tend(context)
    clock.at = START + YEAR
    async with context.session() as session:
        run = await new_runs.enqueue(
            session,
            TakeOrder(),
            new_runs.About(system_id=system, store_id=store),
            by="mara",
            now=clock.at,
        )
        await queue.end(session, run, "done", clock.at)
    future = await add_backup(context, system, store, clock.at, 100, run_id=run.id)
    assert not await scheduler.tend(context)
    clock.at = START + DAY
    assert not any("newest backup" in text for text in await doubts(context)), (
        "it is known to be misdated"
    )
    assert any("newest run" in text for text in await doubts(context))
    assert not await scheduler.tend(context)
    assert await marked(context) == set()
    async with context.session() as session:
        assert (await session.get_one(Backup, future)).misdated
        newest = (await session.execute(select(System.newest_good))).scalar_one()
    assert newest == START + YEAR, "it is the newest by its number, and its date is told as it is"
    said = await confirm(context)
    assert any("newest run may be dated" in text for text in said)
    assert await scheduler.tend(context)
    clock.at = START + 40 * DAY
    await confirm(context)
    assert await scheduler.tend(context)
    assert future not in await marked(context)
    assert await marked(context) == set(ids[:-3]), "the misdated one pushes none of three out"
    assert "misdated" in await concerns(context)
    await confirm(context, believe=True)
    async with context.session() as session:
        assert (await session.get_one(Backup, future)).misdated, (
            "no person can make a date in the future right"
        )


async def test_what_was_dated_by_a_wrong_clock_is_not_believed_because_that_one_is_right_again(
    real: Context, clock: SetClock
) -> None:
    """A worker was a day behind for days; then all that was left was that nobody had tended, and a
    good backup went.
    """
    store, system, _ = await estate(real, clock.at)
    assert await scheduler.tend(real)
    async with real.session() as session:
        session.add(
            Worker(
                id="w" * 32, name="w-1", version="1", started=clock.at, seen=clock.at, skew=-86400.0
            )
        )
        await session.execute(update(ServiceState).values(tended=clock.at - 4 * DAY))
        run = await new_runs.enqueue(
            session,
            TakeOrder(),
            new_runs.About(system_id=system, store_id=store),
            by="mara",
            now=clock.at,
        )
        await queue.end(session, run, "done", clock.at)
    late = await add_backup(real, system, store, clock.at - 23 * HOUR, 100, run_id=run.id)
    assert not await scheduler.tend(real)
    async with real.session() as session:
        await session.execute(update(Worker).values(skew=0.0))
    assert [text for text in await doubts(real) if "since the last tending" not in text] == []
    assert "1 backup was taken while clocks disagreed" in " ".join(await confirm(real))
    assert await scheduler.tend(real)
    async with real.session() as session:
        assert (await session.get_one(Backup, late)).misdated
    await confirm(real, believe=True)
    async with real.session() as session:
        assert not (await session.get_one(Backup, late)).misdated


@pytest.mark.parametrize("off", [DAY, YEAR, -DAY, -YEAR])
async def test_the_last_record_put_is_looked_for_whatever_the_clock_said_of_it_or_of_those_before(
    real: Context, clock: SetClock, off: timedelta
) -> None:
    """By dates, a store that was put back to an older copy was not noticed: for as long as a clock
    had been ahead, or was behind.
    """
    store, system, _ = await estate(real, clock.at)
    for number, at in ((100, clock.at + off), (101, clock.at), (102, clock.at + off)):
        last = await add_backup(real, system, store, at, number)
        async with real.session() as session:
            row = await session.get_one(StoreRow, store)
            assert last[:8] in str(await newest_record(session, row))


async def test_backups_dated_in_another_order_than_taken_are_all_kept_until_a_person_has_looked(
    context: Context, clock: SetClock
) -> None:
    store, system, ids = await estate(context, START)
    behind = await add_backup(context, system, store, START - YEAR, 50)  # it holds the newest state
    clock.at = START + 32 * DAY
    assert await scheduler.tend(context)
    assert await marked(context) == set(), "one of the dates is wrong, and which one is not known"
    assert any(
        "dated before backups that were taken earlier" in text for text in await doubts(context)
    )
    assert not await scheduler.tend(context)
    assert "1 backup stays until you clear it: wrong date." in await confirm(context)
    assert await scheduler.tend(context)
    async with context.session() as session:
        assert (await session.get_one(Backup, behind)).misdated
    assert behind not in await marked(context)
    assert await marked(context) == set(ids[:-3]), "the others are counted by their dates again"


async def test_a_confirmation_looks_at_dates_that_no_tending_has_looked_at_yet(
    context: Context, clock: SetClock
) -> None:
    store, system, ids = await estate(context, clock.at)
    behind = await add_backup(context, system, store, clock.at - YEAR, len(ids) + 1)
    assert await doubts(context) == [], "no tending has looked at it"
    assert await confirm(context) == ["1 backup stays until you clear it: wrong date."]
    assert await scheduler.tend(context)
    assert await doubts(context) == [], "it is not in doubt again a moment later"
    async with context.session() as session:
        wrong = (await session.execute(select(Backup.id).where(Backup.misdated))).scalars().all()
    assert wrong == [behind]


async def test_a_worker_whose_clock_is_right_heeds_a_service_that_says_that_clocks_disagree(
    real: Context, clock: SetClock
) -> None:
    true = clock.at
    clock.at = true - DAY
    assert "clocks" in await standing(real)
    clock.at = datetime.now(UTC)  # this worker's is right
    async with real.session() as session:
        said = await clock_evidence.said_by_a_service(session)
    assert said is not None
    assert said.startswith("The clocks disagree: PostgreSQL is")
    assert "clocks" not in await standing(real)
    async with real.session() as session:
        assert await clock_evidence.said_by_a_service(session) is None


async def test_nothing_is_called_late_or_no_longer_late_while_clocks_disagree(
    real: Context, clock: SetClock
) -> None:
    true = clock.at
    await estate(real, true - 3 * DAY)
    assert {"late"} <= await standing(real)
    clock.at = true - YEAR
    assert {"late", "clocks"} <= await standing(real), (
        "by this clock it is not late, which is not believed"
    )
    clock.at = datetime.now(UTC)
    assert "clocks" not in await standing(real)
    async with real.session() as session:
        await session.execute(update(ConcernRow).values(ended=true))
        await session.execute(update(Backup).where(Backup.sequence == 8).values(time=true - HOUR))
    clock.at = true + YEAR
    told = await standing(real)
    assert "clocks" in told
    assert "late" not in told


async def _night(context: Context, memory: due_takes.Memory) -> int:
    """How many takes a night has queued; they are done at once."""
    await due_takes.decide(context, memory)
    async with context.session() as session:
        queued = select(func.count()).select_from(Run).where(Run.state == "queued")
        count = int((await session.execute(queued)).scalar_one())
        await session.execute(
            update(Run).where(Run.state == "queued").values(state="done", ended=context.now())
        )
    return count


@pytest.mark.parametrize("restarted", [False, True])
async def test_after_a_moment_a_year_ahead_takes_go_on_the_next_night(
    context: Context, clock: SetClock, restarted: bool
) -> None:
    clock.at = START
    store, _ = await add_store(context), await add_system(context, "web-9")
    await add_routine(context, store)  # every day at 02:40
    memory = due_takes.Memory()
    for day in range(3):
        clock.at = START + day * DAY
        await _night(context, memory)
    clock.at = START + YEAR
    assert await _night(context, memory) == 1
    memory = due_takes.Memory() if restarted else memory
    taken = 0
    for day in range(3, 7):
        clock.at = START + day * DAY
        nights = await _night(context, memory)
        assert nights == 1, f"day {day}"
        taken += nights
    assert taken == 4


@pytest.mark.long
async def test_by_a_clock_a_year_behind_for_days_takes_go_on_every_day(
    context: Context, clock: SetClock
) -> None:
    store, _ = await add_store(context), await add_system(context, "web-9")
    async with context.session() as session:
        await session.execute(update(System).values(created=START - 2 * YEAR))
    await add_routine(context, store, created=START - 2 * YEAR, decided_until=START - 2 * YEAR)
    memory = due_takes.Memory()
    for day in range(-370, 0, 1):
        clock.at = START + day * DAY
        await _night(context, memory)
    for day in range(5):
        clock.at = START - YEAR + day * DAY
        assert await _night(context, memory) == 1, f"day {day} of a clock that is a year behind"
        assert await _night(context, due_takes.Memory()) <= 1, (
            "another process decides nothing a third time"
        )


async def test_a_lease_from_the_future_is_over_once_it_was_not_renewed_for_as_long_as_it_lasts(
    context: Context,
) -> None:
    system = await add_system(context, "web-9")
    async with context.session() as session:
        run = (
            await new_runs.enqueue(
                session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START
            )
        ).id
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant("gone"), 30, START)
        assert claimed is not None
        await session.execute(
            update(Run).values(lease_until=func.now() + YEAR)
        )  # by a database a year ahead
    at = 0.0
    watch = LeaseWatch(30, monotonic=lambda: at)

    async def look(after: float) -> list[str]:
        nonlocal at
        at = after
        async with context.session() as session:
            return await watch.take_back(session, START)

    assert await look(0) == []
    assert await look(29) == []
    assert await look(31) == [run]


async def test_a_step_of_the_databases_clock_takes_no_run_from_a_living_worker(
    context: Context,
) -> None:
    system = await add_system(context, "web-9")
    async with context.session() as session:
        await new_runs.enqueue(
            session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START
        )
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant("alive"), 30, START)
        assert claimed is not None
        await session.execute(
            update(Run).values(lease_until=func.now() - HOUR)
        )  # as after a step ahead
    at = 0.0
    watch = LeaseWatch(30, monotonic=lambda: at)
    async with context.session() as session:
        assert await watch.take_back(session, START) == []
    async with context.session() as session:
        assert (
            await queue.renew(session, claimed.lease, 30) is False
        )  # ten seconds later, as it always does
    at = 16
    async with context.session() as session:
        assert await watch.take_back(session, START) == []


@pytest.mark.parametrize("seen", [-2 * MINUTE, YEAR], ids=["silent", "from the future"])
async def test_a_person_stops_a_run_whose_worker_is_dead_at_once(
    context: Context, seen: timedelta
) -> None:
    system = await add_system(context, "web-9")
    async with context.session() as session:
        run = (
            await new_runs.enqueue(
                session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START
            )
        ).id
        session.add(Worker(id="dead", name="quay", seen=func.now() + seen))
    async with context.session() as session:
        assert await claims.claim(session, Claimant("dead"), 30, START) is not None
        await session.execute(update(Run).values(lease_until=func.now() + YEAR))
    async with context.session() as session:
        stopped = await queue.ask_to_stop(session, run, START)
        assert stopped.state == "stopped"
        assert "no longer heard of" in stopped.reason
    async with context.session() as session:
        await new_runs.enqueue(
            session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START
        )


async def test_a_run_put_off_by_a_database_ahead_is_claimed_all_the_same(context: Context) -> None:
    system = await add_system(context, "web-9")
    async with context.session() as session:
        run = await new_runs.enqueue(
            session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START
        )
        await session.flush()
        await session.execute(update(Run).values(not_before=func.now() + 10 * MINUTE))
    async with context.session() as session:
        assert await claims.claim(session, Claimant("w"), 30, START) is None, "a pause is a pause"
        await session.execute(update(Run).values(not_before=func.now() + YEAR))
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant("w"), 30, START)
    assert claimed is not None
    assert claimed.lease.run == run.id


async def test_a_persons_run_of_a_busy_system_lines_up_says_for_what_and_begins_after_it(
    context: Context,
) -> None:
    system = await add_system(context, "web-9")
    async with context.session() as session:
        first = (
            await new_runs.enqueue(
                session,
                TakeOrder(),
                new_runs.About(system_id=system),
                by="routine nightly",
                now=START,
            )
        ).id
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant("w"), 30, START)
        assert claimed is not None
    async with context.session() as session:
        second = await new_runs.enqueue(
            session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START, wait=True
        )
        third = await new_runs.enqueue(
            session,
            ORDERS["draft"],
            new_runs.About(system_id=system),
            by="mara",
            now=START,
            wait=True,
        )
        assert (second.behind, third.behind, second.state) == (first, first, "queued")
        with pytest.raises(Conflict, match="Another run of this system is running"):
            await new_runs.enqueue(
                session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START
            )
    async with context.session() as session:
        assert await claims.claim(session, Claimant("w"), 30, START) is None, "one at a time"
    async with context.session() as session:
        await queue.end(session, await queue.owned(session, claimed.lease), "done", START)
    async with context.session() as session:
        next_one = await claims.claim(session, Claimant("w"), 30, START)
        assert next_one is not None
        assert next_one.lease.run == second.id
    async with context.session() as session:
        await queue.ask_to_stop(session, third.id, START)  # it leaves the queue
        assert (await session.get_one(Run, third.id)).state == "stopped"
        await queue.end(session, await queue.owned(session, next_one.lease), "done", START)
    async with context.session() as session:
        assert await claims.claim(session, Claimant("w"), 30, START) is None


async def test_what_lines_up_is_let_go_on_also_if_whoever_was_before_it_ended_without_a_word(
    context: Context,
) -> None:
    system = await add_system(context, "web-9")
    async with context.session() as session:
        await new_runs.enqueue(
            session, TakeOrder(), new_runs.About(system_id=system), by="x", now=START
        )
        second = await new_runs.enqueue(
            session, TakeOrder(), new_runs.About(system_id=system), by="mara", now=START, wait=True
        )
    async with context.session() as session:
        await session.execute(update(Run).where(Run.behind.is_(None)).values(state="done"))
        assert await queue.let_next_begin(session) == [second.id]
        assert await queue.let_next_begin(session) == []


async def test_a_mark_can_be_taken_back_and_a_longer_ladder_takes_it_back_by_itself(
    context: Context, clock: SetClock
) -> None:
    store, _, ids = await estate(context, START)
    clock.at = START + 36 * DAY
    await expiry.mark_expired(context)
    went = await marked(context)
    assert went == set(ids[:-3])
    async with context.session() as session:
        await session.execute(
            update(Copy).where(Copy.backup_id.in_(went)).values(removable_since=clock.at)
        )
        await expiry.unmark(
            session, await session.get_one(Backup, ids[0]), clock.at, "mara", "of the trial"
        )
        await session.execute(update(Routine).values(ladder="daily for 60 days, always 3"))
    async with context.session() as session:
        kept = await expiry.unmark_what_is_kept_again(session, list(went), clock.at)
        assert set(kept) == went - {ids[0]}
    assert await marked(context) == set()
    async with context.session() as session:
        assert (
            await session.execute(select(Copy).where(Copy.removable_since.is_not(None)))
        ).first() is None
        assert await sweep_run.standing(session, store) == []
