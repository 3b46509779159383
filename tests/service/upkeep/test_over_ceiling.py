"""A store over its ceiling: told first, thinned after the grace, told again when nothing more may
go.
"""

from __future__ import annotations

from datetime import timedelta

import psycopg
import pytest
from sqlalchemy import select

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.stores import StoreRow, StoreSpace
from fennox.service.machines.context import Context
from fennox.service.upkeep import over_ceiling
from fennox.wire.backups import NewTake
from fennox.wire.stores import NewStore
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.contexts import START, SetClock, add_backup, add_routine, add_store, add_system
from tests.service.running import PASSPHRASE, Service, came_to


async def crowded(context: Context, used: int, ceiling: str) -> tuple[str, str, list[str]]:
    """A store with ten daily backups of 10 kB, the oldest on hold, kept by a ladder that always
    keeps two.
    """
    store, system = await add_store(context), await add_system(context, "web-9")
    await add_routine(context, store, ladder="daily for 30 days, always 2")
    backups = [
        await add_backup(
            context, system, store, START - timedelta(days=9 - day), day + 1, new_bytes=10_000
        )
        for day in range(10)
    ]
    async with context.session() as session:
        (await session.get_one(Backup, backups[0])).held = True
        (await session.get_one(StoreRow, store)).ceiling = ceiling
        session.add(StoreSpace(store_id=store, at=START, objects=9, used=used, free=400_000))
    return store, system, backups


async def look(context: Context, store: str) -> list[tuple[str, str]]:
    async with context.session() as session:
        found = await over_ceiling.concerns(
            session, await session.get_one(StoreRow, store), context.now()
        )
        return [(item.code, f"{item.text} {item.means}") for item in found]


async def let_go(context: Context) -> set[str]:
    async with context.session() as session:
        return set((await session.execute(select(Copy.backup_id).where(Copy.let_go))).scalars())


async def measured(context: Context, store: str, used: int) -> None:
    async with context.session() as session:
        session.add(
            StoreSpace(store_id=store, at=context.now(), objects=9, used=used, free=400_000)
        )


async def test_it_warns_before_it_acts_and_takes_no_more_than_it_needs(
    context: Context, clock: SetClock
) -> None:
    store, _, backups = await crowded(context, 100_000, "16 %")  # of 500,000 bytes
    await over_ceiling.thin_out(context)
    [(code, text)] = await look(context, store)
    assert code == "over-ceiling"
    assert "holds 100 kB of 80.0 kB, its ceiling of 16 %" in text
    assert "From 2026-03-04 12:00 UTC on backups go before their time" in text
    clock.at = START + timedelta(days=2, hours=23)
    await over_ceiling.thin_out(context)
    assert await let_go(context) == set()
    clock.at = START + timedelta(days=3)
    await over_ceiling.thin_out(context)
    async with context.session() as session:
        [run] = (await session.execute(select(Run))).scalars()
        assert run.kind == "sweep", "the look is old: first it is seen whether it is still so"
    assert await let_go(context) == set()
    await measured(context, store, 100_000)
    await over_ceiling.thin_out(context)
    gone = await let_go(context)
    assert len(gone) == 2
    assert not gone & {backups[0], *backups[-2:]}, "what is held and what is always kept stays"
    clock.at += timedelta(days=1)
    await over_ceiling.thin_out(context)
    assert await let_go(context) == gone, (
        "what goes makes room in days only; until then no more goes"
    )
    clock.at += timedelta(days=2)
    await measured(context, store, 70_000)
    await over_ceiling.thin_out(context)
    assert [code for code, _ in await look(context, store)] == ["near-ceiling"]
    assert await let_go(context) == set(), "what no sweep has removed yet may stay after all"
    await measured_later(context, clock, store, 20_000)
    assert await look(context, store) == []


async def measured_later(context: Context, clock: SetClock, store: str, used: int) -> None:
    clock.at += timedelta(hours=1)
    await measured(context, store, used)


async def test_when_nothing_more_may_go_that_is_told(context: Context, clock: SetClock) -> None:
    store, _, backups = await crowded(context, 100_000, "0.001 MB")
    await over_ceiling.thin_out(context)
    clock.at = START + timedelta(days=4)
    await measured(context, store, 100_000)
    await over_ceiling.thin_out(context)
    assert await let_go(context) == set(backups) - {backups[0], *backups[-2:]}
    async with context.session() as session:
        for backup in backups[1:-2]:
            await session.delete(await session.get_one(Backup, backup))
    [(code, text)] = await look(context, store)
    assert code == "over-ceiling"
    assert "Nothing more may go" in text


@pytest.mark.long
def test_what_is_let_go_leaves_this_store_alone(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    (service.folder / "pier").mkdir()
    with service.client() as client:
        client.add_store(
            NewStore(name="pier", address=str(service.folder / "pier"), passphrase=PASSPHRASE)
        )
        backup = str(
            came_to(service.ended(client.take(NewTake(system="web-9", store="attic")).id), "backup")
        )
        service.ended(client.take(NewTake(system="web-9", store="attic")).id)
    assert service.fennox("backup", "copy", backup[:12], "--to", "pier").returncode == 0
    assert "is no ceiling" in service.fennox("store", "set", "attic", "--ceiling", "much").stderr
    shown = service.fennox("store", "set", "attic", "--ceiling", "80 %")
    assert "80 % for backups" in shown.stdout, shown.stderr
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        mark = (
            "update copies set let_go = true, let_go_at = now(), removable_since = now() - interval"
            " '3 days' from stores s where s.id = store_id and s.name = %s and backup_id = %s"
        )
        database.execute(mark, ("attic", backup))
    swept = service.fennox("store", "sweep", "attic", "--yes")
    assert swept.returncode == 0, swept.stderr
    with service.client() as client:
        assert [copy.store for copy in client.backup(backup).copies] == ["pier"]
    assert service.fennox("store", "set", "attic", "--ceiling", "").returncode == 0
    assert "ceiling" not in service.fennox("store", "show", "attic").stdout
