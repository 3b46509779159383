"""Sweeps, copies, healing and new keys that die at every verb of a store and every transaction,
before it and after it.

A second, independent reading judges: what lies in the folders, opened with the passphrase alone.
"""

from __future__ import annotations

import itertools
import shutil
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import timedelta
from pathlib import Path

import pytest
from pydantic import SecretStr
from sqlalchemy import select, text, update

from fennox.catalogue.models.backups import Backup, Copy, Removal
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.core.facts.run_orders import (
    AdoptOrder,
    CopyOrder,
    RekeyOrder,
    ScrubOrder,
    StoreOrder,
    SweepOrder,
)
from fennox.core.format.primitives.digest import blake2b_256
from fennox.engine.backups import opened_store
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import copy
from fennox.service.keys import rekey_run
from fennox.service.machines.context import Context
from fennox.service.processes.worker import work_of
from fennox.service.runs import claims
from fennox.service.runs.claims import Claimant
from fennox.service.runs.journal import CatalogueJournal
from fennox.service.runs.lost_workers import LeaseWatch
from fennox.service.stores import adopted_store
from fennox.service.upkeep import store_runs
from fennox.stores.folder import FolderStore
from fennox.testing.stores import Died
from fennox.wire.stores import AdoptStore
from tests.backups import all_backups, read_back, store_backup
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.two_stores import SERVICE, holding, new_keys
from tests.service.contexts import SetClock
from tests.service.fate import Fate

CATALOGUE = (
    "key_sets",
    "logins",
    "stores",
    "systems",
    "backups",
    "copies",
)  # in the order in which they are filled
NEW = "seven terns on a wet rope"


@dataclass
class World:
    """Two stores of one key set, attic with three backups and pier with one of them; the catalogue
    knows both.
    """

    context: Context
    clock: SetClock
    folder: Path
    ids: list[str] = field(default_factory=list)
    contents: dict[str, dict[str, bytes]] = field(default_factory=dict)

    async def make(self) -> None:
        self.context.service_id = SERVICE
        keys = new_keys()
        one, two = [
            await holding(self.folder / "now" / name, keys, fixed_now) for name in ("attic", "pier")
        ]
        for number in range(1, 4):
            documents = {
                f"/etc/{page}": f"{number * page} sailings\n".encode() * 40 for page in range(3)
            }
            backup, _ = await store_backup(
                one.vault, one.index, documents, name=f"day-{number}", sequence=number
            )
            self.ids.append(backup)
            self.contents[backup] = documents
        await copy(one, two, await one.vault.find_record(self.ids[1]), MemoryJournal())
        shutil.copytree(self.folder / "now", self.folder / "first")
        await self.enter()

    async def begin_anew(self) -> None:
        """Stores and catalogue as they were at first."""
        shutil.rmtree(self.folder / "now")
        shutil.copytree(self.folder / "first", self.folder / "now")
        self.forget()
        async with self.context.session() as session:
            names = ", ".join(CATALOGUE)
            await session.execute(text(f"truncate {names} cascade"))
            for name in CATALOGUE:
                kept = f"insert into {name} overriding system value select * from first.{name}"  # noqa: S608
                await session.execute(text(kept))

    async def enter(self) -> None:
        """The catalogue learns what both stores hold; it is kept as it then is."""
        for name in ("attic", "pier"):
            wanted = AdoptStore(
                name=name, address=str(self.folder / "now" / name), passphrase=SecretStr(PASSPHRASE)
            )
            opened = await adopted_store.open_store(self.context, wanted)
            async with self.context.session() as session:
                row = await adopted_store.adopt_store(self.context, session, wanted, opened)
                row.header_digest = blake2b_256(row.header.encode())
                await session.flush()
                await store_runs.enqueue_for_store(self.context, session, AdoptOrder(), row, "mara")
            await self.work()
        async with self.context.session() as session:
            await session.execute(text("delete from runs"))
            await session.execute(text("create schema first"))
            for name in CATALOGUE:
                await session.execute(text(f"create table first.{name} as select * from {name}"))  # noqa: S608

    def forget(self) -> None:
        """A new process remembers nothing."""
        self.context.stores.forget()

    async def row(self, name: str) -> StoreRow:
        async with self.context.session() as session:
            return (
                await session.execute(select(StoreRow).where(StoreRow.name == name))
            ).scalar_one()

    async def order(self, order: StoreOrder, store: str) -> None:
        async with self.context.session() as session:
            row = (
                await session.execute(select(StoreRow).where(StoreRow.name == store))
            ).scalar_one()
            await store_runs.enqueue_for_store(self.context, session, order, row, "schedule")

    async def work(self) -> str | None:
        """What a worker does with the run that waits; its state."""
        async with self.context.session() as session:
            claimed = await claims.claim(session, Claimant("w"), 600, self.context.now())
        if claimed is None:
            return None
        await work_of(claimed.kind)(
            self.context, claimed.lease, CatalogueJournal(self.context, claimed.lease)
        )
        async with self.context.session() as session:
            return (await session.get_one(Run, claimed.lease.run)).state

    async def go_on(self) -> None:
        """After a death the lease runs out, and the next worker goes on."""
        self.forget()
        async with self.context.session() as session:
            await LeaseWatch(0).take_back(session, self.context.now())
        while await self.work() is not None:
            pass

    async def agrees(self, phrase: str = PASSPHRASE) -> dict[str, set[str]]:
        """What lies in each store opens, and the catalogue says just that of it."""
        found: dict[str, set[str]] = {}
        for name in ("attic", "pier"):
            store = FolderStore(self.folder / "now" / name)
            vault = await opened_store.open_with_passphrase(store, phrase, fixed_now)
            found[name] = set(await all_backups(vault))
            for backup in found[name]:
                assert await read_back(vault, backup) == self.contents[backup]
            async with self.context.session() as session:
                copies = select(Copy.backup_id).join(StoreRow).where(StoreRow.name == name)
                assert set((await session.execute(copies)).scalars()) == found[name], (
                    f"the catalogue follows {name}"
                )
        return found


@pytest.fixture
async def world(context: Context, clock: SetClock, tmp_path: Path) -> World:
    (tmp_path / "now").mkdir()
    made = World(context, clock, tmp_path)
    await made.make()
    return made


@pytest.fixture
def dies(world: World, monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest) -> Dies:
    return Dies(world, monkeypatch, int(request.config.getoption("--points")))


@dataclass
class Dies:
    """Lets work die at every ``step``-th verb or transaction; at each of them on both sides of it
    if that is 1.
    """

    world: World
    monkeypatch: pytest.MonkeyPatch
    step: int

    async def everywhere(
        self,
        begin: Callable[[], Awaitable[None]],
        holds: Callable[[], Awaitable[None]],
        *,
        points: int,
    ) -> None:
        """``begin`` orders the work anew, ``holds`` judges once another worker has gone on.
        ``points``: at least.
        """
        deaths = 0
        for at in itertools.count(1, self.step):
            sides = (False, True) if self.step == 1 else (at // self.step % 2 == 1,)
            died = [after for after in sides if await self._at(at, after, begin, holds)]
            deaths += len(died)
            if not died:
                break
        assert deaths >= points * 2 // (self.step if self.step == 1 else 2 * self.step)

    async def _at(
        self,
        at: int,
        after: bool,
        begin: Callable[[], Awaitable[None]],
        holds: Callable[[], Awaitable[None]],
    ) -> bool:
        world, died = self.world, False
        await world.begin_anew()
        await begin()
        fate = Fate(at, after)
        with self.monkeypatch.context() as patch:
            patch.setattr(world.context, "session", fate.session(world.context.session))
            patch.setattr(world.context.stores, "session", world.context.session)
            patch.setattr(world.context.stores, "store", fate.store)
            try:
                await world.work()
            except Died:
                died = True
        await world.go_on()
        try:
            await holds()
        except AssertionError as error:
            raise AssertionError(
                f"died at {at}, {'after' if after else 'before'} it: {error}"
            ) from error
        return died


async def test_a_sweep(world: World, dies: Dies) -> None:
    async def begin() -> None:
        marked = world.context.now() - timedelta(days=3)
        async with world.context.session() as session:
            await session.execute(
                update(Backup)
                .where(Backup.sequence <= 2)
                .values(expired=True, expired_at=marked, expired_by="mara")
            )
            await session.execute(update(Copy).values(removable_since=marked))
        await world.order(SweepOrder(), "attic")

    async def holds() -> None:
        found = await world.agrees()
        assert found == {"attic": {world.ids[2]}, "pier": {world.ids[1]}}
        async with world.context.session() as session:
            removed = (await session.execute(select(Removal.backup_id))).scalars().all()
            states = set((await session.execute(select(Run.state))).scalars())
        assert sorted(removed) == sorted(world.ids[:2]), "each is listed once, by name"
        assert states == {"done"}

    await dies.everywhere(begin, holds, points=30)


async def test_a_copy(world: World, dies: Dies) -> None:
    async def begin() -> None:
        await world.order(CopyOrder(backup=world.ids[2]), "pier")

    async def holds() -> None:
        found = await world.agrees()
        assert found == {"attic": set(world.ids), "pier": set(world.ids[1:])}

    await dies.everywhere(begin, holds, points=15)


async def test_healing(world: World, dies: Dies) -> None:
    """A pack and a record of pier are gone; attic holds what they held."""

    async def begin() -> None:
        lost = [
            *(world.folder / "now/pier").rglob("*.fxp"),
            *(world.folder / "now/pier").rglob("*.fxr"),
        ]
        for path in lost:
            path.unlink()
        await world.order(ScrubOrder(), "pier")

    async def holds() -> None:
        found = await world.agrees()
        assert found == {"attic": set(world.ids), "pier": {world.ids[1]}}
        async with world.context.session() as session:
            assert (await session.execute(select(Copy).where(Copy.damaged != ""))).first() is None

    await dies.everywhere(begin, holds, points=30)


async def test_new_keys(world: World, dies: Dies) -> None:
    async def begin() -> None:
        row = await world.row("attic")
        async with world.context.session() as session:
            opening = await world.context.stores.kept_opening_key(session, row)
            name = (await session.execute(select(KeySet.name))).scalar_one()
        assert opening is not None
        made = await rekey_run.new_generation(world.context, name, opening, new=NEW, label="new")
        async with world.context.session() as session:
            keys = (await session.execute(select(KeySet))).scalar_one()
            await rekey_run.begin(world.context, session, keys, opening, made, leave_old=False)
        for store in ("pier", "attic"):
            await world.order(RekeyOrder(), store)

    async def holds() -> None:
        found = await world.agrees(NEW)
        assert found == {"attic": set(world.ids), "pier": {world.ids[1]}}

    await dies.everywhere(begin, holds, points=20)
