"""A record means readable: whatever became of the store meanwhile, what a take says is there opens
and reads whole.
"""

from __future__ import annotations

import random
import shutil
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest

from fennox.core.errors import FennoxError, NoRoom, StoreUnusable
from fennox.core.format.sweeps import Sweep
from fennox.core.names import ObjectName
from fennox.engine.backups import opened_store
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.confirmation import PacksGone
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import RESERVE_NAME, Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding, copy
from fennox.links.base import Credential
from fennox.stores.base import Span, Wrapped
from fennox.stores.folder import FolderStore
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.backups import all_backups, commit, once, read_back, store_backup, write_document
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.keeper import Keeper
from tests.engine.story import place_of
from tests.engine.two_stores import holding, new_keys

Install = Callable[..., LinuxServer]


def put_back(folder: Path, older: Path) -> None:
    """The store's disk is restored from a copy: what was written since is gone."""
    shutil.rmtree(folder)
    shutil.copytree(older, folder)


async def reads(folder: Path, backup: str) -> dict[str, bytes]:
    """By a reader that knows nothing but the store and its passphrase."""
    fresh = await opened_store.open_with_passphrase(FolderStore(folder), PASSPHRASE, fixed_now)
    return await read_back(fresh, backup)


@pytest.mark.parametrize("by_routine", [False, True])
async def test_a_take_just_after_the_store_was_put_back_is_readable(
    by_routine: bool,
    vault: Vault,
    store_folder: Path,
    install: Install,
    key_pair: tuple[str, str],
    tmp_path: Path,
) -> None:
    server = install("web-9")
    server.configure("ticket", files=8)
    login = Credential("root", private_key=key_pair[0])
    keeper = Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})
    await keeper.take()
    shutil.copytree(store_folder, tmp_path / "older")
    server.write("/etc/saltmere/ticket/003.conf", "the fares of the winter\n" * 400)
    await keeper.take()
    put_back(store_folder, tmp_path / "older")
    # within the minute in which a routine's take does not list the packs again, with what it wrote
    # still in memory
    journal = MemoryJournal()
    taken = await keeper.take(journal, trust=by_routine)
    found = await reads(store_folder, taken.reference.backup)
    assert found["/etc/saltmere/ticket/003.conf"] == b"the fares of the winter\n" * 400
    if (
        not by_routine
    ):  # a routine's take finds the backup before gone, and lists the packs anew because of that
        assert any("Everything is read and written again" in text for _, text in journal.lines), (
            journal.lines
        )


async def test_packs_that_are_gone_are_noticed_before_the_record_also_if_they_are_many(
    vault: Vault, store_folder: Path
) -> None:
    index = PackIndex()
    contents = {f"/{number}": random.Random(number).randbytes(70_000) for number in range(20)}
    for number, (path, data) in enumerate(contents.items()):
        await store_backup(vault, index, {path: data}, sequence=number + 1)  # a pack each
    largest = sorted(store_folder.rglob("*.fxp"), key=lambda path: -path.stat().st_size)
    for gone in (None, *largest[:3]):
        if gone is not None:
            gone.unlink()
        writer = BackupWriter(vault, index, frozenset())
        for path, data in contents.items():
            await write_document(writer, path, once(data), len(data), apart=False)
        await writer.flush()
        if gone is None:
            await writer.confirm()
        else:
            with pytest.raises(PacksGone):
                await writer.confirm()
    await index.refresh(vault)
    backup, _ = await store_backup(vault, index, contents, sequence=99)
    assert await reads(store_folder, backup) == contents


async def test_a_pack_that_was_cut_is_not_relied_on(vault: Vault, store_folder: Path) -> None:
    index = PackIndex()
    await store_backup(vault, index, {"/a": b"x" * 70_000})
    pack = max(store_folder.rglob("*.fxp"), key=lambda path: path.stat().st_size)
    pack.write_bytes(pack.read_bytes()[:-1])
    writer = BackupWriter(vault, index, frozenset())
    held = [await write_document(writer, "/a", once(b"x" * 70_000), 70_000, apart=False)]
    with pytest.raises(PacksGone):
        await commit(writer, held, name="", sequence=2)


class Forgetful(Wrapped):
    """A store that says it wrote a pack and keeps other bytes: a lying disk, a broken cache."""

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        if name.startswith("packs/"):
            flipped = bytearray(data)
            flipped[len(data) // 2 :] = bytes(len(data) - len(data) // 2)
            data = bytes(flipped)
        await self.inner.put(name, data, retain_until=retain_until)


@pytest.mark.parametrize("size", [200, 5_000_000], ids=["read back whole", "sampled"])
async def test_what_does_not_read_back_is_no_backup(vault: Vault, size: int) -> None:
    vault.store = Forgetful(vault.store)
    writer = BackupWriter(vault, PackIndex(), frozenset())
    data = b"".join(number.to_bytes(4) for number in range(size // 4))
    held = [await write_document(writer, "/a", once(data), size, apart=False)]
    with pytest.raises(StoreUnusable, match="does not read back"):
        await commit(writer, held, name="", sequence=1)
    assert await all_backups(vault) == []


class Counting(Wrapped):
    """Counts what is asked of a store."""

    asked: list[str]

    def __init__(self, inner: FolderStore) -> None:
        super().__init__(inner)
        self.asked = []

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        self.asked.append("get")
        return await self.inner.get(name, span)


async def test_of_much_one_chunk_a_pack_is_read_back(vault: Vault) -> None:
    counting = Counting(vault.store)  # type: ignore[arg-type]
    vault.store = counting
    writer = BackupWriter(vault, PackIndex(), frozenset())
    data = b"".join(number.to_bytes(4) for number in range(6_000_000))
    await write_document(writer, "/a", once(data), len(data), apart=True)
    await writer.flush()
    counting.asked.clear()
    await writer.confirm()
    assert len(counting.asked) == writer.written.objects >= 1


async def test_a_copy_is_confirmed_as_well(tmp_path: Path) -> None:
    keys = new_keys()
    here, there = [await holding(tmp_path / name, keys, fixed_now) for name in ("one", "two")]
    first, _ = await store_backup(here.vault, here.index, {"/a": b"a" * 70_000})
    await copy(here, there, await here.vault.find_record(first), MemoryJournal())
    shutil.copytree(tmp_path / "two", tmp_path / "older")
    second, _ = await store_backup(
        here.vault, here.index, {"/a": b"a" * 70_000, "/b": b"b" * 70_000}, sequence=2
    )
    await copy(here, there, await here.vault.find_record(second), MemoryJournal())
    put_back(tmp_path / "two", tmp_path / "older")
    stale = Holding(there.vault, there.index)
    stale.index.refresh = _nothing  # type: ignore[method-assign]
    with pytest.raises(PacksGone):
        await copy(here, stale, await here.vault.find_record(second), MemoryJournal())
    fresh = Holding(there.vault, PackIndex())
    await copy(here, fresh, await here.vault.find_record(second), MemoryJournal())
    assert await reads(tmp_path / "two", second) == {"/a": b"a" * 70_000, "/b": b"b" * 70_000}


async def _nothing(vault: Vault, *, not_older: float = 0) -> None:
    del vault, not_older


async def test_a_store_that_lacks_its_last_record_went_back_and_one_that_was_swept_did_not(
    vault: Vault, store_folder: Path
) -> None:
    index = PackIndex()
    backup, _ = await store_backup(vault, index, {"/a": b"a"})
    record = vault.record_name((await vault.find_record(backup)).reference)
    assert not await vault.lost(record)
    (store_folder / record).unlink()
    assert await vault.lost(record)
    removed = [{"name": record, "why": "no rung keeps it", "system": "5e" * 16, "sequence": 1}]
    listed = {
        "stage": "removed",
        "time": "20260301T120000Z",
        "by": "x",
        "condemned": [],
        "removed": removed,
    }
    await vault.write_sweep(Sweep.model_validate(listed))
    assert not await vault.lost(record)


class Full(Wrapped):
    """A store without a free byte, until something is removed."""

    full = True

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        if self.full:
            raise NoRoom("The disk is full.", "Make room.")
        await self.inner.put(name, data, retain_until=retain_until)

    async def delete(self, name: ObjectName) -> None:
        await self.inner.delete(name)
        self.full = False


async def test_a_store_that_is_full_gives_up_its_reserve_so_that_it_can_be_swept(
    vault: Vault,
) -> None:
    await vault.keep_reserve()
    assert (await vault.store.stat(RESERVE_NAME)) is not None
    vault.store = Full(vault.store)
    listed = {
        "stage": "condemned",
        "time": "20260301T120000Z",
        "by": "x",
        "condemned": [],
        "removed": [],
    }
    await vault.write_sweep(Sweep.model_validate(listed))
    assert (await vault.store.stat(RESERVE_NAME)) is None
    assert len(await vault.sweep_lists()) == 1
    vault.store = Full(vault.store.inner)
    with pytest.raises(FennoxError, match="full"):
        await vault.write_sweep(Sweep.model_validate(listed | {"time": "20260302T120000Z"}))
