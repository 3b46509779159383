"""Take, copy, sweep and heal die at every verb of the store, before it and after it; nothing is
ever half there.
"""

from __future__ import annotations

import asyncio
import os
import shutil
from collections.abc import AsyncIterator, Awaitable, Callable
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from fennox.core.errors import FennoxError, StoreUnusable
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding, copy
from fennox.engine.stores.heal import heal
from fennox.engine.stores.scrub import scrub
from fennox.engine.stores.sweep import sweep
from fennox.stores.base import FoundObject, Store, Wrapped
from fennox.testing.stores import DeniedStore, Died, LateListing, SlowStore, StoppingStore
from tests.backups import all_backups, read_back, store_backup
from tests.conftest import NOON
from tests.engine.two_stores import SERVICE, holding, new_keys

OLD = {"/a": os.urandom(90_000), "/b": b"b" * 3000}
NEW = {"/a": os.urandom(90_000), "/b": b"b" * 3000, "/c": os.urandom(400)}
GONE = {"/g": os.urandom(60_000), "/b": b"b" * 3000}

Act = Callable[["Scene"], Awaitable[None]]


class Scene:
    """Two stores: one holds a backup to keep and one to remove; copied from a prepared pair, so
    that each is alike.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.clock: datetime = NOON

    def now(self) -> datetime:
        self.clock += timedelta(seconds=1)
        return self.clock

    async def prepare(self) -> None:
        keys = new_keys()
        self.one, self.two = [
            await holding(self.folder / name, keys, self.now) for name in ("one", "two")
        ]
        self.keep, _ = await store_backup(self.one.vault, self.one.index, OLD)
        self.gone, _ = await store_backup(self.one.vault, self.one.index, GONE, sequence=2)
        await copy(self.one, self.two, await self.one.vault.find_record(self.keep), MemoryJournal())
        for path in self.folder.rglob("*"):
            os.utime(path, (NOON.timestamp(), NOON.timestamp()))
        self.clock += timedelta(hours=100)
        self.plain = [side.vault.store for side in (self.one, self.two)]
        shutil.copytree(self.folder, self.folder.parent / "prepared")

    def again(self) -> None:
        shutil.rmtree(self.folder)
        shutil.copytree(self.folder.parent / "prepared", self.folder)
        self.survive()

    def survive(self) -> None:
        """A new process: nothing in memory."""
        for side, plain in zip((self.one, self.two), self.plain, strict=True):
            side.vault.store = plain
        self.one, self.two = (
            Holding(self.one.vault, PackIndex()),
            Holding(self.two.vault, PackIndex()),
        )


async def take_one(scene: Scene) -> None:
    await scene.one.index.refresh(scene.one.vault)
    await store_backup(scene.one.vault, scene.one.index, NEW, sequence=3)


async def copy_one(scene: Scene) -> None:
    await copy(scene.one, scene.two, await scene.one.vault.find_record(scene.gone), MemoryJournal())


async def sweep_one(scene: Scene) -> None:
    await sweep(scene.one, {scene.gone: "too old"}, SERVICE, scene.now(), MemoryJournal())


async def sweep_again(scene: Scene) -> None:
    await sweep_one(scene)
    scene.clock += timedelta(hours=60)
    await sweep_one(scene)


async def heal_one(scene: Scene) -> None:
    pack = max((scene.folder / "one/packs").rglob("*.fxp"), key=lambda path: path.stat().st_size)
    if pack.read_bytes()[-1:] != b"!":
        pack.write_bytes(pack.read_bytes()[:-1] + b"!")
    report = await scrub(scene.one, [scene.keep], MemoryJournal())
    await heal(scene.one, report, {"two": scene.two}, {scene.keep: ["two"]}, MemoryJournal())


@pytest.mark.parametrize("act", [take_one, copy_one, sweep_one, sweep_again, heal_one])
async def test_a_run_may_die_at_every_verb(tmp_path: Path, act: Act, step: int) -> None:
    scene = Scene(tmp_path / "scene")
    scene.folder.mkdir()
    await scene.prepare()
    scene.survive()
    counters = [StoppingStore(plain, None) for plain in scene.plain]
    scene.one.vault.store, scene.two.vault.store = counters
    await act(scene)
    points = 0
    for which, counter in enumerate(counters):
        for at in range(1, counter.count + 1):
            if (at + which) % step and at != counter.count:
                continue
            for after in (False, True):
                scene.again()
                side = (scene.one, scene.two)[which]
                side.vault.store = StoppingStore(scene.plain[which], at, after=after)
                with pytest.raises(Died):
                    await act(scene)
                points += 1
                scene.survive()
                for vault in (scene.one.vault, scene.two.vault):
                    for backup in await all_backups(vault):
                        if act is heal_one and vault is scene.one.vault:
                            continue  # it was damaged when it died; the next heal is what counts
                        found = await read_back(vault, backup)
                        assert found in (OLD, NEW, GONE)
                assert scene.keep in await all_backups(scene.one.vault)
                assert not list(scene.folder.rglob(".*.tmp"))
                scene.survive()
                await act(scene)
                assert await read_back(scene.one.vault, scene.keep) == OLD
    assert points >= 20 // step


async def test_a_listing_that_lags_behind_loses_nothing(tmp_path: Path) -> None:
    scene = Scene(tmp_path / "scene")
    scene.folder.mkdir()
    await scene.prepare()
    scene.one.vault.store = LateListing(scene.plain[0], 3)
    scene.one = Holding(scene.one.vault, PackIndex())
    for number in range(3, 9):
        await scene.one.index.refresh(scene.one.vault)
        await store_backup(
            scene.one.vault, scene.one.index, {**NEW, "/n": os.urandom(500)}, sequence=number
        )
    scene.survive()
    assert len(await all_backups(scene.one.vault)) == 8
    assert (await scrub(scene.one, [scene.keep], MemoryJournal())).sound


async def test_rights_that_were_taken_away_are_said_and_leave_everything_as_it_was(
    tmp_path: Path,
) -> None:
    scene = Scene(tmp_path / "scene")
    scene.folder.mkdir()
    await scene.prepare()
    held = sorted(scene.folder.rglob("*"))
    for act in (take_one, sweep_one):
        scene.one.vault.store = DeniedStore(scene.plain[0])
        with pytest.raises(StoreUnusable, match="Not permitted"):
            await act(scene)
        scene.survive()
    assert sorted(scene.folder.rglob("*")) == held


async def test_takes_copies_and_a_sweep_at_once_keep_what_they_must(tmp_path: Path) -> None:
    scene = Scene(tmp_path / "scene")
    scene.folder.mkdir()
    await scene.prepare()
    for number in range(4):
        scene.one.vault.store, scene.two.vault.store = [SlowStore(plain) for plain in scene.plain]
        done = await asyncio.gather(
            store_backup(
                scene.one.vault,
                scene.one.index,
                {**NEW, "/n": os.urandom(900)},
                sequence=3 + 2 * number,
            ),
            store_backup(
                scene.one.vault,
                scene.one.index,
                {**GONE, "/n": os.urandom(900)},
                sequence=4 + 2 * number,
            ),
            copy(
                scene.one, scene.two, await scene.one.vault.find_record(scene.keep), MemoryJournal()
            ),
            sweep_one(scene),
            return_exceptions=True,
        )
        for outcome in done:
            assert not isinstance(outcome, BaseException) or isinstance(outcome, FennoxError), (
                outcome
            )
        scene.survive()
        for vault in (scene.one.vault, scene.two.vault):
            for backup in await all_backups(vault):
                assert await read_back(vault, backup)
        scene.clock += timedelta(hours=60)
    assert (await scrub(scene.one, [scene.keep], MemoryJournal())).lost == {}


class _WrittenMeanwhile(Wrapped):
    """While one run lists, another one of the same process writes a backup."""

    def __init__(self, inner: Store, scene: Scene) -> None:
        super().__init__(inner)
        self._scene = scene

    async def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        before = [found async for found in super().list(prefix)]
        self._scene.one.vault.store = self.inner
        self.backup, _ = await store_backup(
            self._scene.one.vault, self._scene.one.index, NEW, sequence=3
        )
        for found in before:
            yield found


async def test_a_pack_written_while_packs_are_listed_is_not_forgotten(tmp_path: Path) -> None:
    scene = Scene(tmp_path / "scene")
    scene.folder.mkdir()
    await scene.prepare()
    await scene.one.index.refresh(scene.one.vault)
    meanwhile = _WrittenMeanwhile(scene.plain[0], scene)
    scene.one.vault.store = meanwhile
    await scene.one.index.refresh(scene.one.vault)
    record = await scene.one.vault.find_record(meanwhile.backup)
    needed = await BackupReader(scene.one.vault, scene.one.index, record).needed()
    assert all(scene.one.index.sound_place(chunk) is not None for chunk in needed)
