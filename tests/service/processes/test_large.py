"""Answers that stay short where the estate is large: pages, counts, the worst first."""

from __future__ import annotations

import asyncio
import random
import time
from contextvars import Context as Variables
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import delete, func, select
from starlette.types import Message, Receive, Scope, Send

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.service import EstateCount
from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput, NotFound
from fennox.core.format.manifest import Finding
from fennox.core.retention import ladder
from fennox.core.schedule.schedule import zone_named
from fennox.service.concerns import estate_count, standing_concerns
from fennox.service.foundation.fair_share import AnswersFirst, Turns
from fennox.service.http.routes.backups.backups import list_backups
from fennox.service.http.routes.backups.routines import list_routines, preview_routine
from fennox.service.http.routes.estate.metrics import metrics
from fennox.service.http.routes.systems.systems import list_systems
from fennox.service.machines.context import Context
from fennox.service.processes import due_takes
from fennox.service.processes.due_takes import Memory
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import begins, newest_backups, unhurried
from fennox.service.queries.paging import in_order_of, newest_first
from fennox.service.retention import routines
from fennox.service.views.systems import SystemFilter, SystemOrder
from tests.backups import Item
from tests.service.contexts import (
    ORDERS,
    START,
    SetClock,
    add_backup,
    add_routine,
    add_store,
    add_system,
)


async def estate(context: Context) -> str:
    store = await add_store(context)
    for number, (site, labels) in enumerate(
        [("holm", ["web"]), ("quay", ["mail"]), ("holm", ["mail", "old"])] * 3
    ):
        system = await add_system(context, f"ferry-{number}", site=site, labels=labels)
        if number % 2:
            await add_backup(context, system, store, START - timedelta(hours=number), 1)
    return store


def chosen(q: str = "", site: str | None = None, label: str | None = None) -> SystemFilter:
    return SystemFilter(None, site, label, q, None, None)


async def names(context: Context, matching: SystemFilter, **wanted: object) -> list[str]:
    """Of all pages, two at a time."""
    found: list[str] = []
    after = None
    while True:
        page = await list_systems(context, matching, limit=2, after=after, **wanted)  # type: ignore[arg-type]
        assert len(page.items) <= 2
        found += [item.name for item in page.items]
        after = page.after
        if after is None:
            return found


@pytest.mark.parametrize("sort", ["name", "kind", "site", "newest_good"])
async def test_every_system_comes_once_in_every_order(context: Context, sort: SystemOrder) -> None:
    await estate(context)
    up, down = (
        await names(context, chosen(), sort=sort),
        await names(context, chosen(), sort=sort, down=True),
    )
    assert sorted(up) == [f"ferry-{number}" for number in range(9)]
    assert down == up[::-1]
    if sort == "newest_good":
        assert up[5:] == ["ferry-7", "ferry-5", "ferry-3", "ferry-1"], (
            "those without a backup come before the oldest"
        )
    if sort == "site":
        assert up[:6] == [f"ferry-{number}" for number in (0, 2, 3, 5, 6, 8)]


async def test_a_page_of_backups_tells_what_keeps_each_as_the_whole_list_does(
    context: Context,
) -> None:
    store = await add_store(context)
    await add_routine(context, store, ladder="daily for 3 days, weekly for 5 weeks, always 2")
    for system, hours in (("quay-web", 7), ("holm-store", 19)):
        made = await add_system(context, system)
        for number in range(30):
            held = {"held": True, "held_because": "before the move"} if number == 4 else {}
            time = START - timedelta(hours=hours * number)
            await add_backup(
                context, made, store, time, 100 - number, doubtful=number % 6 == 1, **held
            )
    whole = {item.id: item.kept_by for item in (await list_backups(context, limit=100)).items}
    assert {len(why) for why in whole.values()} >= {0, 1, 2, 3}
    after = None
    found: dict[str, list[str]] = {}
    while True:
        page = await list_backups(context, limit=7, after=after)
        found |= {item.id: item.kept_by for item in page.items}
        if (after := page.after) is None:
            break
    assert found == whole


async def test_the_database_keeps_the_newest_good_backup_of_each_system(context: Context) -> None:
    store = await add_store(context)
    system, other = [await add_system(context, name) for name in ("ferry-1", "ferry-2")]
    chance = random.Random(7)
    for sequence in range(1, 13):
        taken = START - timedelta(hours=chance.randrange(100))
        await add_backup(context, system, store, taken, sequence, partial=sequence % 5 == 0)
    changes: list[dict[str, object]] = [
        {"doubtful": True},
        {"partial": True},
        {"doubtful": False},
        {"purpose": "safety"},
        {"partial": False},
    ]
    for step in range(60):
        async with context.session() as session:
            rows = list((await session.execute(select(Backup).order_by(Backup.sequence))).scalars())
            row = chance.choice(rows)
            if step % 10 == 9:
                await session.execute(delete(Copy).where(Copy.backup_id == row.id))
                await session.delete(row)
            for name, value in chance.choice(changes).items():
                setattr(row, name, value)
        async with context.session() as session:
            newest = (await session.execute(newest_backups(Backup.time))).all()
            kept = (
                await session.execute(select(System.id, System.newest_good).order_by(System.name))
            ).all()
            assert [tuple(row) for row in kept] == [
                (system, newest[0].time if newest else None),
                (other, None),
            ]


async def test_duties_let_those_go_first_who_wait_for_an_answer() -> None:
    turns = Turns()
    order: list[str] = []

    async def duty() -> None:
        for number in range(3):
            await turns.give_way()
            order.append(f"duty {number}")

    async def answer(scope: Scope, receive: Receive, send: Send) -> None:
        await turns.give_way()  # what an answer itself looks through waits for nobody
        for _ in range(20):
            await asyncio.sleep(0)
        order.append("answer")
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b""})

    async def told(_: Message) -> None:
        return None

    async def heard() -> Message:
        return {"type": "http.disconnect"}

    asking = asyncio.create_task(AnswersFirst(answer, turns)({"type": "http"}, heard, told))
    await asyncio.sleep(0)
    await asyncio.gather(duty(), asking)
    assert order == ["answer", "duty 0", "duty 1", "duty 2"]
    number = turns.begin()
    begun = time.monotonic()
    await asyncio.create_task(duty(), context=Variables())
    assert order[4:] == ["duty 0", "duty 1", "duty 2"], (
        "whoever is waited for too long holds no duty up for ever"
    )
    assert time.monotonic() - begun < 30
    turns.end(number)


async def test_words_and_filters_narrow_it(context: Context) -> None:
    await estate(context)
    assert await names(context, chosen(q="QUAY mail")) == ["ferry-1", "ferry-4", "ferry-7"]
    assert await names(context, chosen(q="old", site="holm")) == ["ferry-2", "ferry-5", "ferry-8"]
    assert await names(context, chosen(q="", label="web")) == ["ferry-0", "ferry-3", "ferry-6"]
    assert await names(context, chosen(q="100%")) == []
    with pytest.raises(BadInput, match="cursor"):
        await list_systems(context, chosen(), after="nonsense")
    by_name = (await list_systems(context, chosen(), limit=2)).after
    with pytest.raises(BadInput, match="cursor"):
        await list_systems(context, chosen(), after=by_name, sort="newest_good")


async def test_the_database_selects_what_python_selects(context: Context) -> None:
    await estate(context)
    async with context.session() as session:
        every = list((await session.execute(select(System).order_by(System.name))).scalars())
        for text in (
            "all",
            "site=holm",
            "label=mail site=holm",
            "kind=linux-server label=web",
            "name=ferry-4",
        ):
            rows = select(System.name).where(*selectors.selected(text)).order_by(System.name)
            by_database = list((await session.execute(rows)).scalars())
            assert by_database == [row.name for row in every if selectors.selects(text, row)], text


async def test_counts_are_of_what_has_all_its_pieces(context: Context) -> None:
    store = await estate(context)
    async with context.session() as session:
        lacking = (await session.execute(select(Backup).limit(1))).scalar_one()
        lacking.findings = [Finding(severity="warning", code="x", text="x", remedy="x")]
    async with context.session() as session:
        counts = await estate_count.count(context, session)
    assert (counts.systems, counts.protected, counts.backups) == (9, 3, 4)
    async with context.session() as session:
        assert await estate_count.in_stores(context, session) == {
            store: (4, START - timedelta(hours=1))
        }
        kept = await session.get_one(EstateCount, 1)
        kept.backups = 10**6  # from then on what was counted is believed
    async with context.session() as session:
        assert await estate_count.in_stores(context, session) == {
            store: (4, START - timedelta(hours=1))
        }


async def test_of_one_cause_the_first_few_are_named_and_the_others_counted(
    context: Context,
) -> None:
    async with context.session() as session:
        for number in range(30):
            session.add(
                ConcernRow(
                    key=f"k{number:02}",
                    severity="low" if number else "high",
                    noun="system",
                    about=f"s-{number}",
                    text="x",
                    means="",
                    remedy="",
                    cause="one-copy" if number < 25 else f"own-{number}",
                    since=START,
                    muted_because="",
                    muted_by="",
                    muted_until=START + timedelta(hours=1) if number == 29 else None,
                )
            )
    async with context.session() as session:
        found = await standing_concerns.standing(session, START)
        later = await standing_concerns.standing(session, START + timedelta(hours=2))
    assert (found.in_all, found.muted) == (29, 1)
    assert (later.in_all, later.muted) == (30, 0)
    assert found.worst[0].severity == "high"
    assert [row.cause for row in found.worst].count("one-copy") == 11, (
        "the worst, and ten of the others"
    )
    assert {row.cause for row in found.worst if row.cause != "one-copy"} == {
        f"own-{n}" for n in range(25, 29)
    }


async def test_nobody_is_looked_at_until_something_is_due_or_has_changed(
    context: Context, clock: SetClock
) -> None:
    await add_routine(context, await add_store(context), when="every day at 13:00", systems="all")
    await add_system(context, "a")
    memory = Memory()
    assert await due_takes.decide(context, memory) is False
    assert memory.nothing_before == START.replace(hour=13)
    memory.later.clear()  # so that looking again would show
    await due_takes.decide(context, memory)
    assert memory.later == {}
    await add_system(context, "b")
    await due_takes.decide(context, memory)
    assert len(memory.later) == 2, "there is another one"
    clock.at = START.replace(hour=13, minute=1)
    assert await due_takes.decide(context, memory) is False
    async with context.session() as session:
        assert (await session.execute(select(func.count()).select_from(Run))).scalar_one() == 2


async def test_an_id_is_found_by_its_beginning(context: Context) -> None:
    system, store = await add_system(context, "a"), await add_store(context)
    ids = ["abcdef" + "0" * 26, "abcdf0" + "0" * 26, "abcde" + "f" * 27]
    for number, backup in enumerate(ids):
        await add_backup(context, system, store, START, number, id=backup)
    async with context.session() as session:

        async def found(text: str) -> set[str]:
            return set(
                (await session.execute(select(Backup.id).where(begins(Backup.id, text)))).scalars()
            )

        assert await found("abcdef") == {ids[0], ids[2]}
        assert await found("abcdf0") == {ids[1]}
        assert await found(ids[0]) == {ids[0]}
        assert await found("ffffff") == set()


def test_everything_means_everything_also_in_the_hour_that_comes_twice() -> None:
    first = datetime(2026, 10, 25, 0, 30, tzinfo=UTC)  # 02:30 in Oslo, and an hour later again
    items = [
        Item("a", first),
        Item("b", first + timedelta(hours=1)),
        Item("c", first + timedelta(hours=1)),
    ]
    plan = ladder.parse("everything for 3 days")
    kept = ladder.kept(items, plan, first + timedelta(days=1), zone_named("Europe/Oslo"))
    assert all(ladder.OnRung(plan.rungs[0]) in why for why in kept.values())


async def test_pages_are_cut_by_key_and_name(context: Context) -> None:
    await estate(context)
    async with context.session() as session:
        key = System.__table__.c.kind
        rows, after = await in_order_of(session, select(System), [key, System.name], 4, None)
        assert after is not None
        more, end = await in_order_of(session, select(System), [key, System.name], 9, after)
    assert ([row.name for row in rows + more], end) == (
        [f"ferry-{number}" for number in range(9)],
        None,
    )


async def test_long_answers_come_whole_though_in_parts(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    await estate(context)
    monkeypatch.setattr("fennox.service.queries.newest_good._AT_ONCE", 2)
    async with context.session() as session:
        every = await unhurried(session, select(System))
        assert sorted(row[0].name for row in every) == [f"ferry-{number}" for number in range(9)]
        held = await unhurried(session, newest_backups(Backup.time))
        assert sorted(row.time for row in held) == [
            START - timedelta(hours=hours) for hours in (7, 5, 3, 1)
        ]


async def test_of_two_backups_of_one_second_the_later_comes_first(context: Context) -> None:
    system, store = await add_system(context, "a"), await add_store(context)
    for number, backup in ((1, "f" * 32), (2, "0" * 32), (3, "8" * 32)):
        await add_backup(context, system, store, START, number, id=backup)
    found, after, keys = [], None, [Backup.time, Backup.sequence, Backup.id]
    while True:
        async with context.session() as session:
            rows, after = await newest_first(session, select(Backup), keys, 1, after)
        found += [row.sequence for row in rows]
        if after is None:
            break
    assert found == [3, 2, 1]


async def test_a_preview_shows_the_first_systems_of_many_and_any_one_of_them(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(routines, "FIRST", 3)
    store = await estate(context)
    await add_routine(context, store, systems="label=mail")
    [shown] = (await list_routines(context)).items
    assert (shown.members, shown.in_all) == (["ferry-1", "ferry-2", "ferry-4"], 6)
    found = await preview_routine("nightly", context)
    assert [one.system for one in found.systems] == ["ferry-1", "ferry-2", "ferry-4"]
    assert (found.in_all, found.stays, found.goes) == (6, 1, 0)
    one = await preview_routine("nightly", context, "ferry-7")
    assert ([one.system for one in one.systems], one.in_all, one.stays) == (["ferry-7"], 6, 1)
    with pytest.raises(NotFound, match="takes no system ferry-0"):
        await preview_routine("nightly", context, "ferry-0")


async def test_metrics_tell_the_last_run_of_each_kind(context: Context) -> None:
    store = await add_store(context)
    system = await add_system(context, "ferry-1")
    done = [("take", "done"), ("restore", "done"), ("take", "done"), ("take", "failed")]
    async with context.session() as session:
        for number, (kind, state) in enumerate(done):
            began = START + timedelta(hours=number)
            session.add(
                Run(
                    id=f"{number:032}",
                    kind=kind,
                    state=state,
                    system_id=system,
                    store_id=store,
                    order=ORDERS[kind],
                    by="x",
                    created=began,
                    started=began,
                    ended=began + timedelta(seconds=10 + number),
                )
            )
    told = bytes((await metrics(context)).body).decode().splitlines()
    took = sorted(
        line.split("{")[1] for line in told if line.startswith("fennox_last_run_duration_seconds{")
    )
    assert took == ['kind="restore",system="ferry-1"} 11.0', 'kind="take",system="ferry-1"} 12.0']
    assert "fennox_systems_without_good_backup 1.0" in told
