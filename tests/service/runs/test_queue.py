"""The run table as the queue: order, one active run for a system, fences, leases, stopping."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Callable, Coroutine
from datetime import datetime

import pytest
from sqlalchemy import func, select, text, update

from fennox.catalogue.models.runs import Run, Worker
from fennox.catalogue.models.systems import Site, System
from fennox.core.errors import Conflict, LeaseLost, NotFound, Stopped
from fennox.core.facts.run_orders import TakeOrder
from fennox.service.machines.context import Context
from fennox.service.processes import scheduler, worker
from fennox.service.processes.scheduler import Scheduler
from fennox.service.processes.worker import RunWorker
from fennox.service.runs import claims, new_runs, queue
from fennox.service.runs.claims import Claimant
from fennox.service.runs.journal import CatalogueJournal
from fennox.service.runs.lost_workers import LeaseWatch
from fennox.service.runs.queue import Lease
from tests.service.contexts import ORDERS, START, add_routine, add_store, add_system


async def enqueue(
    context: Context,
    system: str | None,
    *,
    routine_id: str | None = None,
    due: datetime | None = None,
    idempotency_key: str | None = None,
    by: str = "harbour-admin",
    wait: bool = False,
) -> str:
    async with context.session() as session:
        about = new_runs.About(system_id=system, routine_id=routine_id)
        run = await new_runs.enqueue(
            session,
            TakeOrder(),
            about,
            by=by,
            now=START,
            due=due,
            idempotency_key=idempotency_key,
            wait=wait,
        )
        return run.id


async def claim(context: Context, worker: str = "w", seconds: float = 30) -> Lease | None:
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant(worker), seconds, context.now())
    return claimed[1] if claimed else None


async def state_of(context: Context, run: str) -> str:
    async with context.session() as session:
        return (await session.get_one(Run, run)).state


async def end(context: Context, lease: Lease, state: str = "done") -> None:
    async with context.session() as session:
        await queue.end(session, await queue.owned(session, lease), state, START)


async def let_leases_run_out(context: Context) -> list[str]:
    async with context.session() as session:
        past = func.now() - text("interval '1 second'")
        await session.execute(update(Run).where(Run.state == "running").values(lease_until=past))
        return await LeaseWatch(0).take_back(session, START)


async def claimed_by(context: Context, claimant: Claimant) -> str | None:
    async with context.session() as session:
        claimed = await claims.claim(session, claimant, 30, context.now())
    return claimed[1].run if claimed else None


async def test_a_routine_of_many_systems_does_not_hold_up_one_of_few(context: Context) -> None:
    store = await add_store(context)
    many, few = [await add_routine(context, store, name=name) for name in ("many", "few")]
    first = [
        await enqueue(context, await add_system(context, f"m-{number}"), routine_id=many, due=START)
        for number in range(4)
    ]
    late = [
        await enqueue(context, await add_system(context, f"f-{number}"), routine_id=few, due=START)
        for number in range(2)
    ]
    order = [await claimed_by(context, Claimant("w")) for _ in range(6)]
    assert order == [first[0], late[0], first[1], late[1], first[2], first[3]]


async def test_a_full_worker_has_room_for_a_person_only(context: Context) -> None:
    routine = await add_routine(context, await add_store(context))
    by_itself = await enqueue(
        context, await add_system(context, "a"), routine_id=routine, due=START
    )
    looked = await enqueue(context, await add_system(context, "b"), by="routine nightly")
    scrubbed = await enqueue(context, None, by="schedule")
    assert await claimed_by(context, Claimant("w", people_only=True)) is None
    wanted = await enqueue(context, await add_system(context, "c"))
    assert await claimed_by(context, Claimant("w", people_only=True)) == wanted
    assert {await claimed_by(context, Claimant("w")) for _ in range(3)} == {
        by_itself,
        looked,
        scrubbed,
    }


async def test_a_full_worker_begins_one_after_the_other_of_what_people_wait_for(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(worker, "_POLL", 600)  # only what is queued, and what ends, has it look
    begun: asyncio.Queue[str] = asyncio.Queue()
    over: dict[str, asyncio.Event] = defaultdict(asyncio.Event)

    async def take(context: Context, lease: Lease, _journal: CatalogueJournal) -> None:
        begun.put_nowait(lease.run)
        await over[lease.run].wait()
        await end(context, lease)

    monkeypatch.setattr(worker, "work_of", lambda _kind: take)
    routine = await add_routine(context, await add_store(context))
    systems = [await add_system(context, name) for name in "abcd"]
    by_itself = await enqueue(context, systems[0], routine_id=routine, due=START)
    task = asyncio.create_task(RunWorker(context, slots=1).work())
    try:
        async with asyncio.timeout(60):
            assert await begun.get() == by_itself
            late = await enqueue(context, systems[1], routine_id=routine, due=START)
            for run in [await enqueue(context, system) for system in systems[2:]]:
                assert await begun.get() == run, "it is full, and there is room for one person"
                over[run].set()
            over[by_itself].set()
            assert await begun.get() == late
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)


async def test_runs_at_a_site_are_left_to_whom_its_worker_has_come_to(context: Context) -> None:
    at_site, at_other, by_hand = [
        await add_system(context, name, site=site)
        for name, site in (("a", "holm"), ("b", "quay"), ("c", "holm"))
    ]
    async with context.session() as session:
        session.add(Site(name="holm", token_hash="0" * 64, admitted=START, by="harbour-admin"))
        (await session.get_one(System, by_hand)).login_id = None
    runs = [await enqueue(context, system) for system in (at_site, at_other, by_hand)]
    near, there = Claimant("near"), Claimant("there", frozenset({"holm"}), near=False)
    assert [await claimed_by(context, near) for _ in range(3)] == [runs[1], runs[2], None]
    assert [await claimed_by(context, there) for _ in range(2)] == [runs[0], None]
    async with context.session() as session:
        copy = (
            await new_runs.enqueue(
                session, ORDERS["copy"], new_runs.About(), by="schedule", now=START
            )
        ).id
    assert await claimed_by(context, there) is None
    assert await claimed_by(context, near) == copy


async def test_runs_are_claimed_in_order_and_a_persons_before_a_routines(context: Context) -> None:
    store = await add_store(context)
    routine = await add_routine(context, store)
    systems = [await add_system(context, name) for name in ("a", "b", "c")]
    by_routine = await enqueue(context, systems[0], routine_id=routine, due=START)
    first = await enqueue(context, systems[1])
    second = await enqueue(context, systems[2])
    order = [lease.run for lease in [await claim(context) for _ in range(3)] if lease]
    assert order == [first, second, by_routine]
    assert await claim(context) is None


async def test_two_workers_never_get_the_same_run(context: Context) -> None:
    runs = {await enqueue(context, await add_system(context, f"s-{n}")) for n in range(12)}
    leases = await asyncio.gather(*[claim(context, f"w-{n}") for n in range(20)])
    got = [lease.run for lease in leases if lease]
    assert len(got) == len(set(got))
    while (lease := await claim(context)) is not None:
        got.append(lease.run)
    assert set(got) == runs


@pytest.mark.parametrize("state", ["queued", "running", "waiting"])
async def test_a_system_has_one_active_run(context: Context, state: str) -> None:
    system = await add_system(context, "web-9")
    run = await enqueue(context, system)
    if state != "queued":
        lease = await claim(context)
        assert lease is not None
        if state == "waiting":
            await end(context, lease, "waiting")
    with pytest.raises(Conflict, match=f"Another run of this system is {state}") as refused:
        await enqueue(context, system)
    assert refused.value.fields["run"] == run


async def test_a_system_is_free_again_when_its_run_has_ended(context: Context) -> None:
    system = await add_system(context, "web-9")
    for state in ("done", "failed", "stopped"):
        await enqueue(context, system)
        lease = await claim(context)
        assert lease is not None
        await end(context, lease, state)
    await enqueue(context, system)


async def test_a_run_waits_behind_the_active_one_and_begins_when_that_has_ended(
    context: Context,
) -> None:
    system = await add_system(context, "web-9")
    first = await enqueue(context, system)
    second = await enqueue(context, system, wait=True)
    lease = await claim(context)
    assert lease is not None
    assert lease.run == first
    assert await claim(context) is None, "the second one waits"
    await end(context, lease)
    following = await claim(context)
    assert following is not None
    assert following.run == second


async def test_no_more_than_five_runs_of_a_system_wait_behind_the_active_one(
    context: Context,
) -> None:
    system = await add_system(context, "web-9")
    for _ in range(6):
        await enqueue(context, system, wait=True)
    with pytest.raises(Conflict, match="and 5 more wait behind it"):
        await enqueue(context, system, wait=True)


async def test_the_same_idempotency_key_gives_the_same_run(context: Context) -> None:
    system = await add_system(context, "web-9")
    first = await enqueue(context, system, idempotency_key="harbour-admin:1")
    assert await enqueue(context, system, idempotency_key="harbour-admin:1") == first
    with pytest.raises(Conflict):
        await enqueue(context, system, idempotency_key="harbour-admin:2")


async def test_a_due_time_is_decided_once(context: Context) -> None:
    store = await add_store(context)
    routine, system = await add_routine(context, store), await add_system(context, "web-9")
    await enqueue(context, system, routine_id=routine, due=START)
    lease = await claim(context)
    assert lease is not None
    await end(context, lease)
    with pytest.raises(Conflict, match="already been decided"):
        await enqueue(context, system, routine_id=routine, due=START)


async def test_a_lost_lease_ends_the_old_workers_rights(context: Context) -> None:
    run = await enqueue(context, await add_system(context, "web-9"))
    old = await claim(context, "old")
    assert old is not None
    assert await let_leases_run_out(context) == [run]
    new = await claim(context, "new")
    assert new is not None
    assert new.run == run
    assert new.fence > old.fence
    assert new.attempt == 2
    for act in (lambda s: queue.owned(s, old), lambda s: queue.renew(s, old, 30)):
        with pytest.raises(LeaseLost):
            async with context.session() as session:
                await act(session)
    await end(context, new)
    assert await state_of(context, run) == "done"


async def test_a_run_whose_workers_keep_dying_fails_with_a_reason(context: Context) -> None:
    run = await enqueue(context, await add_system(context, "web-9"))
    for _ in range(queue.MAX_ATTEMPTS):
        assert await claim(context) is not None
        await let_leases_run_out(context)
    assert await claim(context) is None
    async with context.session() as session:
        row = await session.get_one(Run, run)
    assert row.state == "failed"
    assert row.problem == "worker-died"
    assert "died 3 times" in row.reason


async def test_a_live_lease_is_left_alone(context: Context) -> None:
    run = await enqueue(context, await add_system(context, "web-9"))
    lease = await claim(context)
    assert lease is not None
    async with context.session() as session:
        assert await LeaseWatch(30).take_back(session, START) == []
        assert await queue.renew(session, lease, 30) is False
    assert await state_of(context, run) == "running"


async def test_stopping_is_at_once_in_the_queue_and_at_the_next_step_while_running(
    context: Context,
) -> None:
    waiting = await enqueue(context, await add_system(context, "a"))
    async with context.session() as session:
        assert (await queue.ask_to_stop(session, waiting, START)).state == "stopped"
    running = await enqueue(context, await add_system(context, "b"))
    lease = await claim(context)
    assert lease is not None
    async with context.session() as session:
        session.add(Worker(id="w", name="quay"))  # it is alive
    async with context.session() as session:
        assert (await queue.ask_to_stop(session, running, START)).state == "running"
    with pytest.raises(Conflict, match="already asked"):
        async with context.session() as session:
            await queue.ask_to_stop(session, running, START)
    journal = CatalogueJournal(context, lease)
    with pytest.raises(Stopped):
        await journal.check()
    with pytest.raises(Stopped):
        await journal.step("the next step")
    with pytest.raises(NotFound):
        async with context.session() as session:
            await queue.ask_to_stop(session, "0" * 32, START)


async def test_a_run_that_was_to_stop_and_lost_its_worker_is_stopped_and_not_begun_again(
    context: Context,
) -> None:
    run = await enqueue(context, await add_system(context, "a"))
    assert await claim(context) is not None
    async with context.session() as session:
        session.add(Worker(id="w", name="quay"))
    async with context.session() as session:
        await queue.ask_to_stop(session, run, START)
    await let_leases_run_out(context)
    assert await state_of(context, run) == "stopped"


async def test_what_a_run_tells_is_told_once_also_if_a_transaction_fails(context: Context) -> None:
    system = await add_system(context, "a")
    run = await enqueue(context, system)
    lease = await claim(context)
    assert lease is not None
    journal = CatalogueJournal(context, lease)
    await journal.step("Read")
    await journal.log("info", "one line")

    async def failing() -> None:
        async with context.session() as session:
            await queue.owned(session, lease)
            await session.flush()
            raise RuntimeError("the transaction fails")

    with pytest.raises(RuntimeError):
        await failing()
    await journal.step("Write")
    async with context.session() as session:
        owned = await queue.owned(session, lease)
        about = new_runs.About(system_id=system)
        with pytest.raises(Conflict, match="Another run of this system"):
            await new_runs.enqueue(
                session, TakeOrder(), about, by="x", now=START
            )  # which rolls back a part of it
        await journal.log("warning", "a late line")
        await queue.end(session, owned, "done", START)
    await journal.close()
    async with context.session() as session:
        steps = (
            await session.execute(text("select title, ended from run_steps order by id"))
        ).all()
        lines = (
            (await session.execute(text("select text from run_log order by id"))).scalars().all()
        )
        assert (await session.get_one(Run, run)).step == "Write"
    assert [tuple(step) for step in steps] == [("Read", START), ("Write", START)]
    assert lines == ["one line", "a late line"]


async def test_what_nobody_asks_for_is_told_after_a_moment(context: Context) -> None:
    await enqueue(context, await add_system(context, "a"))
    lease = await claim(context)
    assert lease is not None
    journal = CatalogueJournal(context, lease)
    await journal.step("Read")
    async with asyncio.timeout(30):
        while await told(context) != ["Read"]:  # noqa: ASYNC110 - it is the database that knows
            await asyncio.sleep(0.02)
    await journal.close()


async def told(context: Context) -> list[str]:
    async with context.session() as session:
        return list(
            (await session.execute(text("select title from run_steps order by id"))).scalars()
        )


async def test_the_journal_keeps_steps_progress_and_log_and_stops_counting_when_the_lease_is_lost(
    context: Context,
) -> None:
    run = await enqueue(context, await add_system(context, "a"))
    lease = await claim(context)
    assert lease is not None
    journal = CatalogueJournal(context, lease)
    await journal.step("Read")
    await journal.progress(documents=3, bytes=300)
    await journal.log("warning", "something odd")
    await journal.step("Write")
    await journal.check()
    async with asyncio.timeout(30):
        while await told(context) != ["Read", "Write"]:  # noqa: ASYNC110 - it is the database that knows
            await asyncio.sleep(0.02)
    async with context.session() as session:
        row = await session.get_one(Run, run)
        steps = (
            await session.execute(text("select title, ended is null from run_steps order by id"))
        ).all()
    assert (row.step, row.documents, row.size) == ("Write", 3, 300)
    assert [tuple(step) for step in steps] == [("Read", False), ("Write", True)]
    await let_leases_run_out(context)
    with pytest.raises(LeaseLost):
        await journal.check()
    with pytest.raises(LeaseLost):
        await journal.step("Commit")
    async with context.session() as session:
        count = await session.execute(select(func.count()).select_from(text("run_steps")))
    assert count.scalar_one() == 2


class Mistaken:
    """What makes a mistake the first time that it is called, and none after that."""

    def __init__(self) -> None:
        self.called, self.again = False, asyncio.Event()

    async def __call__(self, *_: object) -> None:
        if self.called:
            self.again.set()
            return
        self.called = True
        raise RuntimeError("a mistake of ours")


async def goes_on(mistaken: Mistaken, work: Coroutine[None, None, None]) -> None:
    working = asyncio.create_task(work)
    try:
        async with asyncio.timeout(60):
            await mistaken.again.wait()
        assert not working.done()
    finally:
        working.cancel()
        await asyncio.gather(working, return_exceptions=True)


async def test_a_mistake_of_ours_does_not_end_a_worker(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    mistaken = Mistaken()
    monkeypatch.setattr(claims, "claim", mistaken)
    monkeypatch.setattr(worker, "_POLL", 0.01)
    await goes_on(mistaken, RunWorker(context, 1).work())


@pytest.mark.parametrize("turns", range(5))
async def test_a_worker_that_is_woken_as_it_is_stopped_ends(
    context: Context, monkeypatch: pytest.MonkeyPatch, turns: int
) -> None:
    wake: asyncio.Future[Callable[[str], None]] = asyncio.get_running_loop().create_future()

    async def listen(_database: str, _channel: str, heard: Callable[[str], None]) -> None:
        wake.set_result(heard)
        await asyncio.Event().wait()

    async def nothing(_worker: RunWorker) -> bool:
        return False

    monkeypatch.setattr(worker, "listen", listen)
    monkeypatch.setattr(worker, "_POLL", 600)
    monkeypatch.setattr(RunWorker, "_beat", nothing)
    monkeypatch.setattr(RunWorker, "_start_one", nothing)
    work = asyncio.create_task(RunWorker(context, 1).work())
    (await wake)("")
    for _ in range(turns):
        await asyncio.sleep(0)
    work.cancel()
    _, waiting = await asyncio.wait([work], timeout=20)
    assert not waiting, "the cancellation was swallowed"


async def test_a_mistake_of_ours_does_not_end_the_scheduler(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    mistaken = Mistaken()
    monkeypatch.setattr(scheduler, "decide", mistaken)
    await goes_on(mistaken, Scheduler(context).run())
