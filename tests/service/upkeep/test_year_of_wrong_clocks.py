"""A simulated year in which the clocks of service, database and worker go wrong, for a moment and
for days.

Nothing goes that the ladder keeps under true time, and takes go on. PostgreSQL's clock is set as
well: functions of our own stand before the built-in ones of the same names.
"""

from __future__ import annotations

import itertools
import logging
import random
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import delete, select, text, update

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Routine, Run, Worker
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.retention import ladder
from fennox.core.schedule import schedule
from fennox.service.concerns import estate_watch
from fennox.service.foundation import key_file
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context, open_context
from fennox.service.processes import due_takes, scheduler
from fennox.service.retention import routines
from fennox.service.runs import queue
from fennox.service.upkeep import clock_confirmation, clock_evidence, sweep_run
from tests.service.contexts import SetClock, add_backup, add_routine, add_store, add_system
from tests.service.retention.test_year import MANY, systems

__all__ = ["systems"]

log = logging.getLogger(__name__)

BEGIN = datetime(2027, 12, 1, 0, tzinfo=UTC)
HOUR, DAY = timedelta(hours=1), timedelta(days=1)
STEP = 12 * HOUR
MACHINES = ("service", "database", "worker")
OFFSETS = [sign * size for size in (timedelta(minutes=1), DAY, 365 * DAY) for sign in (1, -1)]
LENGTHS = (1, 7)  # steps: a moment, and days
LADDER = "everything for 2 days, daily for 5 days, weekly for 2 weeks, always 2"
CALM = 14 * 2  # steps: until backups go
FAKED = """
create schema faked;
create table faked.clock (at timestamptz not null);
insert into faked.clock values ('2027-12-01T00:00:00Z');
create function faked.clock_timestamp() returns timestamptz language sql volatile
    as 'select at from faked.clock';
create function faked.now() returns timestamptz language sql stable as 'select at from faked.clock';
"""


@dataclass
class World:
    """Three machines, what is true, and what is known of it."""

    service: Context
    worker: Context
    clock: dict[str, SetClock]
    store: str
    true: datetime = BEGIN
    off: dict[str, timedelta] = field(default_factory=lambda: dict.fromkeys(MACHINES, timedelta()))
    taken: dict[str, datetime] = field(default_factory=dict)  # by backup, by true time
    removed: list[str] = field(default_factory=list)
    memory: due_takes.Memory = field(default_factory=due_takes.Memory)
    confirmed: int = 0

    async def go_on(self, length: timedelta) -> None:
        """What services and workers do in a step."""
        self.true += length
        for machine in ("service", "worker"):
            self.clock[machine].at = self.true + self.off[machine]
        by_database = self.true + self.off["database"]
        async with self.service.session() as session:
            await session.execute(text("update faked.clock set at = :at"), {"at": by_database})
            skew = (self.off["worker"] - self.off["database"]).total_seconds()
            await session.execute(update(Worker).values(seen=by_database, skew=skew))
        async with self.service.session() as session:
            await estate_watch.settle(self.service, session)
        await due_takes.decide(self.service, self.memory)
        await self._work()
        await scheduler.tend(self.service)
        await self._sweep()
        if not any(self.off.values()):
            await self._a_person_looks()

    async def _work(self) -> None:
        """Every run is done at once; a take leaves a backup, dated by the worker."""
        async with self.worker.session() as session:
            queued = select(Run).where(Run.state == "queued").order_by(Run.number)
            runs = list((await session.execute(queued)).scalars())
            for run in runs:
                await queue.end(session, run, "done", self.worker.now())
        for run in runs:
            if run.kind == "take":
                system = str(run.system_id)
                number = sum(backup.startswith(system[:8]) for backup in self.taken) + 1
                backup = f"{system[:8]}-{number:04}"
                await add_backup(
                    self.worker,
                    system,
                    self.store,
                    self.worker.now(),
                    number,
                    id=backup,
                    run_id=run.id,
                )
                self.taken[backup] = self.true

    async def _sweep(self) -> None:
        """As a worker does: by its own clock, and not while a service says that clocks disagree."""
        async with self.worker.session() as session:
            judged = await clock_evidence.judge(self.worker, session)
            if judged.doubts or await clock_evidence.said_by_a_service(session) is not None:
                return
            waits = await sweep_run.see_marks(session, self.store, judged.evidence.now)
            going = {backup for backup, wait in waits.items() if wait is None}
            wrongly = going & await self._truly_kept()
            assert not wrongly, f"{wrongly} would go at {self.true}, and true time keeps them"
            await session.execute(delete(Copy).where(Copy.backup_id.in_(going)))
            await session.execute(delete(Backup).where(Backup.id.in_(going)))
            await session.execute(update(StoreRow).values(swept=self.worker.now()))
            self.removed += going

    async def _truly_kept(self) -> set[str]:
        kept: set[str] = set()
        async with self.service.session() as session:
            mine = list((await session.execute(select(Routine))).scalars())
            ids = list((await session.execute(select(System.id))).scalars())
            held = await routines.backups_of(session, ids)
        for backups in held.values():
            dated = [backup._replace(time=self.taken[backup.id]) for backup in backups]
            found = ladder.kept(
                dated, ladder.parse(LADDER), self.true, schedule.zone_named(mine[0].zone)
            )
            kept |= {backup for backup, why in found.items() if why}
        return kept

    async def _a_person_looks(self) -> None:
        """The clocks are right again: what is still in doubt was dated by one that was not."""
        async with self.service.session() as session:
            judged = await clock_evidence.judge(self.service, session)
            if judged.doubts:
                self.confirmed += 1
                await clock_confirmation.confirm(session, judged, "mara")


@pytest.fixture
async def world(database: str, tmp_path: Path, systems: int) -> AsyncIterator[World]:
    with psycopg.connect(database.replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute(FAKED.encode())
        name = connection.info.dbname
        connection.execute(
            f'alter database "{name}" set search_path = faked, pg_catalog, public'.encode()
        )
    clock = {machine: SetClock() for machine in ("service", "worker")}
    for one in clock.values():
        one.at = BEGIN
    settings = Settings(database=database, state=tmp_path / "state", weak_slots=True)
    key = key_file.load(settings.state)
    async with AsyncExitStack() as stack:
        made = {}
        for machine in clock:
            made[machine] = await open_context(settings, clock[machine], key, simulated=False)
            stack.push_async_callback(made[machine].engine.dispose)
        store = await add_store(made["service"])
        await add_routine(
            made["service"],
            store,
            when="every day at 02:30",
            ladder=LADDER,
            created=BEGIN,
            decided_until=BEGIN,
        )
        for number in range(max(2, systems // 6)):
            await add_system(made["service"], f"s-{number}")
        async with made["service"].session() as session:
            session.add(Worker(id="w" * 32, name="w-1", version="1", started=BEGIN, seen=BEGIN))
            await session.execute(update(System).values(created=BEGIN))
            await session.execute(update(StoreRow).values(created=BEGIN))
        yield World(made["service"], made["worker"], clock, store)


@pytest.mark.long
async def test_whatever_the_clocks_of_three_machines_do_takes_go_on_and_nothing_good_goes(
    world: World, systems: int
) -> None:
    seed = random.randrange(2**32)
    log.warning("seed %d", seed)
    chance = random.Random(seed)
    episodes = list(itertools.product(MACHINES, OFFSETS, LENGTHS))
    chance.shuffle(episodes)
    if systems < MANY:
        episodes = episodes[:3]  # the long run has all of them
    for _ in range(CALM):
        await world.go_on(STEP)
    before = len(world.removed)
    assert before > 0, "by clocks that agree the ladder lets go"
    assert world.confirmed == 0
    for machine, offset, length in episodes:
        log.info("%s by %s for %d steps", machine, offset, length)
        world.off[machine] = offset
        for _ in range(length):
            await world.go_on(STEP)
        world.off[machine] = timedelta()
        for _ in range(chance.randrange(4, 12)):
            await world.go_on(STEP)
    for _ in range(CALM):
        await world.go_on(STEP)
    assert len(world.removed) > before, "and goes on doing so"
    by_system: dict[str, list[datetime]] = {}
    for backup, at in world.taken.items():
        by_system.setdefault(backup[:8], []).append(at)
    for times in by_system.values():
        late = [
            (one, other)
            for one, other in itertools.pairwise(sorted(times))
            if other - one > 2 * DAY
        ]
        assert late == [], "a take that is due every day comes a day late at most"
