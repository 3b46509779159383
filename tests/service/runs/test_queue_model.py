"""The queue against a model: workers that die, clocks that step, people who stop; nothing stays for
ever.

Whatever happens, a system has at most one active run, no run goes on for longer than twice its
lease after the last sign of life of its worker, no worker that lost a run can end it, and a
person's stop always stops.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import func, select, text
from sqlalchemy.dialects.postgresql import insert

from fennox.catalogue.models.runs import IS_ACTIVE, Run, Worker
from fennox.core.errors import Conflict, LeaseLost
from fennox.core.facts.run_orders import TakeOrder
from fennox.service.foundation import key_file
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context, open_context
from fennox.service.runs import claims, new_runs, queue
from fennox.service.runs.claims import Claimant
from fennox.service.runs.lost_workers import LeaseWatch
from fennox.service.runs.queue import Lease
from tests.service.contexts import START, SetClock, add_system

LEASE = 30.0
RENEWED = 10.0  # seconds between two signs of life
SYSTEMS, WORKERS = ("a", "b"), ("v", "w", "x")

Action = tuple[str, object]
actions = st.one_of(
    st.tuples(st.just("queue"), st.tuples(st.sampled_from(SYSTEMS), st.booleans())),
    st.tuples(st.just("claim"), st.sampled_from(WORKERS)),
    st.tuples(st.just("claim"), st.sampled_from(WORKERS)),
    st.tuples(
        st.just("end"), st.tuples(st.sampled_from(WORKERS), st.sampled_from(["done", "failed"]))
    ),
    st.tuples(st.just("die"), st.sampled_from(WORKERS)),
    st.tuples(st.just("stop"), st.sampled_from(SYSTEMS)),
    st.tuples(st.just("pass"), st.sampled_from([RENEWED, 70.0])),
    st.tuples(st.just("step"), st.sampled_from([-86400.0, -3600.0, 3600.0, 86400.0, 31536000.0])),
)


@dataclass
class Life:
    """What really happened, beside what the database says."""

    context: Context
    systems: dict[str, str]
    at: float = 0.0  # a clock that never jumps
    held: dict[str, tuple[Lease, float]] = field(
        default_factory=dict
    )  # by worker: its lease, and when it last renewed
    dead: set[str] = field(default_factory=set)
    lost: list[Lease] = field(default_factory=list)
    to_stop: set[str] = field(default_factory=set)

    def __post_init__(self) -> None:
        self.watch = LeaseWatch(LEASE, monotonic=lambda: self.at)

    async def do(self, action: Action) -> None:
        name, what = action
        await getattr(self, f"_{name}")(what)
        await self._holds()

    async def _queue(self, what: tuple[str, bool]) -> None:
        system, wait = what
        async with self.context.session() as session:
            try:
                await new_runs.enqueue(
                    session,
                    TakeOrder(),
                    new_runs.About(system_id=self.systems[system]),
                    by="mara",
                    now=START,
                    wait=wait,
                )
            except Conflict:
                return

    async def _claim(self, worker: str) -> None:
        if worker in self.held or worker in self.dead:
            return
        await self._alive(worker)
        async with self.context.session() as session:
            claimed = await claims.claim(session, Claimant(worker), LEASE, START)
        if claimed is not None:
            self.held[worker] = (claimed.lease, self.at)

    async def _alive(self, worker: str) -> None:
        async with self.context.session() as session:
            row = insert(Worker).values(id=worker, name=worker, seen=func.now())
            await session.execute(
                row.on_conflict_do_update(index_elements=["id"], set_={"seen": func.now()})
            )

    async def _end(self, what: tuple[str, str]) -> None:
        worker, state = what
        if worker not in self.held or worker in self.dead:
            return
        lease, _ = self.held.pop(worker)
        try:
            async with self.context.session() as session:
                run = await queue.owned(session, lease)
                await queue.end(session, run, "stopped" if run.stop_asked else state, START)
        except LeaseLost:
            self.lost.append(lease)

    async def _die(self, worker: str) -> None:
        self.dead.add(worker)

    async def _stop(self, system: str) -> None:
        async with self.context.session() as session:
            active = (
                select(Run.id)
                .where(Run.system_id == self.systems[system], IS_ACTIVE)
                .order_by(Run.number)
            )
            for run in (await session.execute(active)).scalars().all():
                try:
                    await queue.ask_to_stop(session, run, START)
                except Conflict:
                    continue  # it was asked before, and its worker is alive
                self.to_stop.add(run)

    async def _step(self, seconds: float) -> None:
        """The database's clock steps."""
        async with self.context.session() as session:
            await session.execute(
                text("update fake.clock set ahead = ahead + make_interval(secs => :by)"),
                {"by": seconds},
            )

    async def _pass(self, seconds: float) -> None:
        """Time passes; who is alive renews, and looks for whom nobody hears of any more."""
        for _ in range(int(seconds / RENEWED)):
            self.at += RENEWED
            await self._step(RENEWED)
            for worker, (lease, _) in list(self.held.items()):
                if worker in self.dead:
                    continue
                await self._alive(worker)
                try:
                    async with self.context.session() as session:
                        asked = await queue.renew(session, lease, LEASE)
                    self.held[worker] = (lease, self.at)
                except LeaseLost:
                    self.lost.append(self.held.pop(worker)[0])
                    continue
                if asked:  # it stops at its next step
                    await self._end((worker, "stopped"))
            async with self.context.session() as session:
                await queue.let_next_begin(session)
                await self.watch.take_back(session, START)

    async def _holds(self) -> None:
        async with self.context.session() as session:
            rows = list((await session.execute(select(Run))).scalars())
        for system in self.systems.values():
            active = [run for run in rows if run.system_id == system and run.behind is None]
            assert sum(run.state in ("queued", "running", "waiting") for run in active) <= 1
        running = {run.id: run for run in rows if run.state == "running"}
        for worker, (lease, renewed) in self.held.items():
            if worker in self.dead and self.at - renewed > 2 * LEASE:
                found = running.get(lease.run)
                assert found is None or found.fence != lease.fence, (
                    f"{worker} died {self.at - renewed} s ago"
                )
        for lease in self.lost:
            with pytest.raises(LeaseLost):
                async with self.context.session() as session:
                    await queue.owned(session, lease)

    async def at_last(self) -> None:
        """Everybody dies, and comes back once more: what was to stop has stopped, and what waits is
        claimed.
        """
        self.dead.update(WORKERS)
        for _ in range(queue.MAX_ATTEMPTS):
            await self._pass(2 * LEASE + RENEWED)
        async with self.context.session() as session:
            rows = list((await session.execute(select(Run))).scalars())
        assert [run.state for run in rows if run.state == "running"] == []
        stopped = {run.id: run.state for run in rows if run.id in self.to_stop}
        assert set(stopped.values()) <= {"stopped", "done", "failed"}, (
            "a person's stop always stops"
        )
        for _ in rows:
            async with self.context.session() as session:
                claimed = await claims.claim(session, Claimant("late"), LEASE, START)
            if claimed is None:
                break
            async with self.context.session() as session:
                await queue.end(session, await queue.owned(session, claimed.lease), "done", START)
        async with self.context.session() as session:
            active = (await session.execute(select(Run.state).where(IS_ACTIVE))).scalars().all()
        assert active == [], "nothing stays for ever"


def fake_the_clock(database: str) -> None:
    """``now()`` of this database is a function of ours, ahead of the true one by as much as a table
    says.
    """
    with psycopg.connect(database.replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute("create schema fake")
        connection.execute("create table fake.clock as select interval '0' as ahead")
        connection.execute(
            "create function fake.now() returns timestamptz stable language sql as "
            "$$ select pg_catalog.now() + (select ahead from fake.clock) $$"
        )
        name = connection.info.dbname
        connection.execute(
            f"alter database {name} set search_path = fake, public, pg_catalog".encode()
        )


@pytest.fixture
def steady(database: str) -> str:
    fake_the_clock(database)
    return database


@settings(
    max_examples=max(3, settings().max_examples // 8),
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(st.lists(actions, min_size=5, max_size=40))
def test_whatever_happens_nothing_stays_for_ever_and_nothing_is_done_twice(
    steady: str, tmp_path: Path, story: Sequence[Action]
) -> None:
    asyncio.run(_live(steady, tmp_path, story))


async def _live(database: str, state: Path, story: Sequence[Action]) -> None:
    made = Settings(database=database, state=state, weak_slots=True)
    context = await open_context(made, SetClock(), key_file.load(made.state), simulated=True)
    try:
        async with context.session() as session:
            await session.execute(text("truncate runs, systems, logins, workers cascade"))
            await session.execute(text("update fake.clock set ahead = '0'"))
        life = Life(context, {name: await add_system(context, name) for name in SYSTEMS})
        for action in story:
            await life.do(action)
        await life.at_last()
    finally:
        await context.engine.dispose()
