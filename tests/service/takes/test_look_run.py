"""Looks between takes: what differs is taken once it stands, not too often a day, or reported where
people take it.
"""

from __future__ import annotations

from datetime import timedelta

import pytest
from sqlalchemy import select, update

from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.systems import StateRow, System
from fennox.core.errors import LeaseLost
from fennox.core.facts.run_orders import TakeOrder, of_kind
from fennox.core.facts.run_results import LookResult
from fennox.service.concerns import estate_watch, standing_concerns
from fennox.service.machines.context import Context
from fennox.service.runs import claims, new_runs, queue
from fennox.service.runs.claims import Claimant
from fennox.service.takes import last_seen, look_run
from fennox.wire.routines import NewRoutine
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.contexts import START, SetClock, add_backup, add_routine, add_store, add_system
from tests.service.processes.test_story import take
from tests.service.running import Service, until


@pytest.fixture
async def system(context: Context) -> str:
    store = await add_store(context)
    system = await add_system(context, "a")
    backup = await add_backup(context, system, store, START, 1)
    await add_routine(context, store)
    async with context.session() as session:
        await session.execute(update(Routine).values(look_every=60, settle=10, most_a_day=2))
        session.add(
            StateRow(system_id=system, backup_id=backup, key_set="k" * 32, generation=1, parts={})
        )
    return system


async def look(context: Context, differs: str, state: str = "") -> bool:
    """Whether a look was due; it then finds this."""
    await look_run.decide(context)
    async with context.session() as session:
        run = (
            await session.execute(select(Run).where(Run.kind == "look", Run.state == "queued"))
        ).scalar_one_or_none()
        if run is None:
            return False
        claimed = await claims.claim(session, Claimant("w"), 30, context.now())
        assert claimed is not None
        run = await session.get_one(Run, claimed.lease.run, populate_existing=True)
        await look_run.conclude(context, session, run, differs, state or differs)
    return True


async def takes(context: Context) -> list[str]:
    """Notes of the takes that were queued so far; those that are new are done at once, as a worker
    does.
    """
    async with context.session() as session:
        found = await session.execute(select(Run).where(Run.kind == "take").order_by(Run.created))
        runs = list(found.scalars())
        for run in runs:
            if run.state == "queued":
                run.state = "done"
                last_seen.same(await session.get_one(System, run.system_id))
        return [of_kind(run.order, TakeOrder).note for run in runs]


async def test_what_differs_is_taken_once_it_has_stood_for_the_quiet_time(
    context: Context, clock: SetClock, system: str
) -> None:
    assert await look(context, "")
    assert not await look(context, ""), "the next one is due in an hour"
    clock.at += timedelta(hours=1)
    assert await look(context, "changed /etc/a", "1")
    assert await takes(context) == []
    clock.at += timedelta(minutes=9)
    assert not await look(context, "", "1")
    clock.at += timedelta(minutes=1)
    assert await look(context, "changed /etc/a, /etc/b", "2"), (
        "it is looked at again after the quiet time"
    )
    assert await takes(context) == [], "something else differs now"
    clock.at += timedelta(minutes=10)
    assert await look(context, "changed /etc/a, /etc/b", "2")
    assert await takes(context) == ["It differed: changed /etc/a, /etc/b"]


async def test_only_so_often_within_a_day(context: Context, clock: SetClock, system: str) -> None:
    async def differs() -> int:
        clock.at += timedelta(hours=1)
        assert await look(context, "changed /etc/a", "1")
        clock.at += timedelta(minutes=10)
        assert await look(context, "changed /etc/a", "1")
        return len(await takes(context))

    assert [await differs() for _ in range(4)] == [1, 2, 2, 2]
    clock.at += timedelta(hours=22)
    assert await look(context, "changed /etc/a", "1")
    assert len(await takes(context)) == 3, "the first of the two is a day ago"


async def concerns(context: Context) -> str:
    async with context.session() as session:
        await estate_watch.look(context, session)
        return " ".join(
            row.text for row in (await standing_concerns.standing(session, context.now())).worst
        )


async def test_a_system_by_hand_only_is_reported_and_never_taken(
    context: Context, clock: SetClock, system: str
) -> None:
    async with context.session() as session:
        await session.execute(update(Routine).values(mode="by hand"))
    for _ in range(3):
        assert await look(context, "new /etc/c", "1")
        clock.at += timedelta(hours=1)
    assert await takes(context) == []
    assert "a differs from its last backup: new /etc/c." in await concerns(context)
    assert await look(context, "")
    assert "not what its last backup" not in await concerns(context)


async def test_a_look_that_fails_is_tried_at_its_next_time_and_gives_way_to_everything_else(
    context: Context, clock: SetClock, system: str
) -> None:
    await look_run.decide(context)
    async with context.session() as session:
        await session.execute(update(Run).values(state="failed"))
    assert not await look(context, ""), "not at once"
    clock.at += timedelta(hours=1)
    await look_run.decide(context)
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant("w"), 30, context.now())
        assert claimed is not None
    async with context.session() as session:
        await new_runs.enqueue(
            session,
            TakeOrder(),
            new_runs.About(system_id=system, backup_id="b" * 32),
            by="a person",
            now=clock.at,
        )
    async with context.session() as session:
        with pytest.raises(LeaseLost):
            await queue.owned(session, claimed.lease)
        rows = await session.execute(
            select(Run.kind, Run.state).where(Run.state != "failed").order_by(Run.kind)
        )
        assert [tuple(row) for row in rows] == [("look", "stopped"), ("take", "queued")]
    await look_run.decide(context)
    async with context.session() as session:
        assert len(list((await session.execute(select(Run))).scalars())) == 3, (
            "and a look waits for a take"
        )


async def test_of_looks_that_found_nothing_the_newest_stays(
    context: Context, clock: SetClock, system: str
) -> None:
    for differs in ("", "changed /etc/a", "", ""):
        assert await look(context, differs)
        clock.at += timedelta(hours=1)
    async with context.session() as session:
        told = (await session.execute(select(Run.result).order_by(Run.created))).scalars()
        assert list(told) == [LookResult(differs="changed /etc/a"), LookResult(differs="")]


@pytest.mark.parametrize("change", [{"retired": START}, {"suspended_because": "a restore goes on"}])
async def test_who_is_not_taken_is_not_looked_at(
    context: Context, system: str, change: dict[str, object]
) -> None:
    async with context.session() as session:
        await session.execute(update(System).values(**change))
    assert not await look(context, "")


async def test_in_quiet_hours_nobody_looks(context: Context, clock: SetClock, system: str) -> None:
    async with context.session() as session:
        await session.execute(update(Routine).values(quiet="08:00 to 18:00"))
    assert not await look(context, "")
    clock.at += timedelta(hours=7)
    assert await look(context, "")


@pytest.mark.long
def test_a_service_takes_what_changed_with_a_note_of_what_it_was(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    assert take(service).state == "done"
    server.write("/etc/tide-table.conf", "made up\n")
    with service.client() as client:
        routine = client.add_routine(
            NewRoutine(
                name="watchful",
                systems="all",
                when="every day at 02:40",
                store="attic",
                ladder="always 3",
                look_every=5,
                settle=0,
            )
        )
        assert (routine.look_every, routine.settle, routine.most_a_day) == (5, 0, 4)
        until(lambda: len(client.backups()) == 2, "what changed is taken")
        newest = client.backups()[0]
        assert newest.note == "It differed: new /etc/tide-table.conf"
        until(lambda: client.system("web-9").active_run is None, "the run has ended")
        shown = client.system("web-9")
        assert shown.differs == ""
        assert shown.looked is not None
        assert [run.outcome for run in client.runs(kind="look")] == [
            "it differs: new /etc/tide-table.conf"
        ]
    assert "at most 4 times a day" in service.fennox("routine", "show", "watchful").stdout
    assert "no difference" in service.fennox("system", "show", "web-9").stdout
