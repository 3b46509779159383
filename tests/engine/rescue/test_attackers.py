"""What somebody can do who took over something: by key, store, record, pack, header and script."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest

from fennox.core.errors import (
    Damaged,
    FennoxError,
    PassphraseNeeded,
    StoreUnusable,
    WrongPassphrase,
)
from fennox.core.format import chunks
from fennox.core.format import header as headers
from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups import vault as vaults
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import copy
from fennox.engine.stores.scrub import scrub
from fennox.engine.stores.sweep import sweep
from fennox.stores.folder import FolderStore
from tests.backups import read_back, store_backup
from tests.conftest import NOON, PASSPHRASE, fixed_now
from tests.engine.two_stores import SERVICE, holding, new_keys

SECRET = b"the harbour master's password is kittiwake-7\n"
DOCUMENTS = {"/etc/quay/master.conf": SECRET * 40, "/etc/motd": b"welcome\n"}


@pytest.mark.parametrize("plain_names", [True, False])
async def test_a_stolen_store_shows_no_content_and_no_path(
    tmp_path: Path, plain_names: bool
) -> None:
    here = await holding(tmp_path / "one", new_keys(), fixed_now, plain_names=plain_names)
    await store_backup(here.vault, here.index, DOCUMENTS, name="quarter")
    for path in (tmp_path / "one").rglob("*"):
        told = path.read_bytes() if path.is_file() else b""
        for clear in (b"kittiwake", b"/etc/quay", b"master.conf", b"welcome\n"):
            assert clear not in told, path
        if not plain_names:
            assert b"web-9" not in told
            assert "quarter" not in path.name
            assert "web-9" not in str(path.relative_to(tmp_path))


async def test_who_has_the_write_secret_alone_opens_nothing(tmp_path: Path) -> None:
    here = await holding(tmp_path / "one", new_keys(), fixed_now, apart=True)
    backup, _ = await store_backup(here.vault, here.index, DOCUMENTS)
    reader = BackupReader(here.vault, here.index, await here.vault.find_record(backup))
    assert await reader.needed()
    with pytest.raises(PassphraseNeeded):
        await reader.head()


@pytest.mark.parametrize("apart", [False, True])
async def test_a_guess_can_be_tested_with_the_write_secret_unless_the_document_was_declared_secret(
    tmp_path: Path, apart: bool
) -> None:
    here = await holding(tmp_path / "one", new_keys(), fixed_now, apart=True)
    backup, _ = await store_backup(here.vault, here.index, {"/guess": SECRET}, apart=apart)
    needed = await BackupReader(
        here.vault, here.index, await here.vault.find_record(backup)
    ).needed()
    assert (chunks.identify(SECRET, here.vault.secret).id in needed) is not apart


async def test_a_record_carried_from_one_store_to_another_is_refused(tmp_path: Path) -> None:
    keys = new_keys()
    one, two = [await holding(tmp_path / name, keys, fixed_now) for name in ("one", "two")]
    await store_backup(one.vault, one.index, DOCUMENTS)
    [record] = (tmp_path / "one/systems").rglob("*.fxr")
    there = tmp_path / "two" / record.relative_to(tmp_path / "one")
    there.parent.mkdir(parents=True)
    shutil.copy(record, there)
    _, bad = await record_lists.list_backups(two.vault)
    assert len(bad) == 1


async def test_a_pack_carried_from_another_store_is_refused(tmp_path: Path) -> None:
    keys = new_keys()
    one, two = [await holding(tmp_path / name, keys, fixed_now) for name in ("one", "two")]
    backup, _ = await store_backup(one.vault, one.index, DOCUMENTS)
    await copy(one, two, await one.vault.find_record(backup), MemoryJournal())
    for pack in (tmp_path / "two/packs").rglob("*.fxp"):
        pack.unlink()
    for pack in (tmp_path / "one/packs").rglob("*.fxp"):
        shutil.copy(pack, tmp_path / "two/packs/2026-03" / pack.name)
    with pytest.raises(Damaged):
        await read_back(two.vault, backup)


async def test_a_hostile_reader_script_is_named_before_anybody_runs_it(tmp_path: Path) -> None:
    here = await holding(tmp_path / "one", new_keys(), fixed_now)
    (tmp_path / "one/rescue.py").write_text("print('give me the passphrase')\n")
    report = await scrub(here, [], MemoryJournal())
    [fault] = report.faults
    assert fault.object == "rescue.py"


async def test_a_forged_newer_header_does_not_catch_the_passphrase_and_stops_the_service(
    tmp_path: Path,
) -> None:
    here = await holding(tmp_path / "one", new_keys(), fixed_now)
    mine = headers.encode(here.vault.header)
    forged = new_keys()
    theirs = headers.new_header(
        forged,
        store=here.vault.id,
        written="20270101T000000Z",
        sweeper="00" * 16,
        slots=here.vault.header.slots,
        revision=99,
    )
    await here.vault.store.put(headers.name(theirs), headers.encode(theirs))
    store = FolderStore(tmp_path / "one")
    with pytest.raises(StoreUnusable, match="not the one this service wrote"):
        await opened_store.open_pinned(
            store, pinned=mine, held=here.vault.held, opening=None, now=fixed_now
        )
    opened = await opened_store.open_with_passphrase(store, PASSPHRASE, fixed_now)
    assert opened.header == here.vault.header


async def test_the_right_passphrase_of_another_key_set_opens_nothing(tmp_path: Path) -> None:
    await holding(tmp_path / "one", new_keys(), fixed_now)
    with pytest.raises(WrongPassphrase):
        await opened_store.open_with_passphrase(
            FolderStore(tmp_path / "one"), "seven terns on a wet rope", fixed_now
        )


async def test_a_store_of_a_newer_format_says_so_and_is_left_alone(tmp_path: Path) -> None:
    await holding(tmp_path / "one", new_keys(), fixed_now)
    [path] = (tmp_path / "one/header").iterdir()
    newer = json.loads(path.read_bytes()) | {"format": "fennox-store/2", "shape": "new"}
    path.write_text(json.dumps(newer, sort_keys=True, separators=(",", ":")))
    before = path.read_bytes()
    with pytest.raises(FennoxError, match="fennox-store/2"):
        await opened_store.open_with_passphrase(
            FolderStore(tmp_path / "one"), PASSPHRASE, fixed_now
        )
    assert path.read_bytes() == before


@pytest.mark.long
async def test_a_hundred_thousand_foreign_files_are_counted_passed_over_and_left(
    tmp_path: Path,
) -> None:
    here = await holding(tmp_path / "one", new_keys(), fixed_now)
    backup, _ = await store_backup(here.vault, here.index, DOCUMENTS)
    photographs = tmp_path / "one/photographs"
    photographs.mkdir()
    for number in range(100_000):
        os.mknod(photographs / f"{number:06}.raw")
    assert await read_back(here.vault, backup) == DOCUMENTS
    report = await scrub(here, [backup], MemoryJournal())
    assert (report.sound, report.foreign) == (True, 100_000)
    assert (await sweep(here, {}, SERVICE, NOON, MemoryJournal())).deleted == 0
    assert len(os.listdir(photographs)) == 100_000


async def test_a_thousand_strange_names_do_not_disturb(tmp_path: Path) -> None:
    here = await holding(tmp_path / "one", new_keys(), fixed_now)
    backup, _ = await store_backup(here.vault, here.index, DOCUMENTS)
    for number in range(1000):
        (tmp_path / f"one/packs/foreign {number}").write_bytes(b"")
    (tmp_path / "one/systems").joinpath("x" * 200).mkdir()
    Path(str(tmp_path / "one/caf").encode().decode() + "\udce9").write_bytes(b"")
    fresh = vaults.Vault(
        here.vault.store, here.vault.header, here.vault.held, fixed_now, here.vault.openings
    )
    assert await read_back(fresh, backup) == DOCUMENTS
    await PackIndex().refresh(fresh)
