"""A backup in a store: whole or absent, small when unchanged, and every kind of damage is found."""

from __future__ import annotations

import os
from pathlib import Path
from secrets import token_bytes

import pytest

from fennox.core.errors import Conflict, Damaged, FennoxError, StoreUnusable, WrongPassphrase
from fennox.core.format import header as headers
from fennox.core.format import records, sweeps
from fennox.core.format.header import NewKeys
from fennox.core.names import object_name
from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.stores.folder import FolderStore
from fennox.testing.stores import FailingStore, ForgetfulStore
from tests.backups import all_backups, read_back, store_backup
from tests.conftest import CHEAP, PASSPHRASE, fixed_now, make_vault

DOCUMENTS = {
    "/etc/hosts": b"127.0.0.1 localhost\n",
    "/etc/big": os.urandom(700_000),
    "/etc/empty": b"",
}


async def test_what_was_stored_is_read_back_with_the_passphrase_alone(vault: Vault) -> None:
    backup, _ = await store_backup(vault, PackIndex(), DOCUMENTS)
    again = await opened_store.open_with_passphrase(vault.store, PASSPHRASE, fixed_now)
    assert await read_back(again, backup) == DOCUMENTS


async def test_a_wrong_passphrase_opens_nothing(vault: Vault) -> None:
    with pytest.raises(WrongPassphrase):
        await opened_store.open_with_passphrase(vault.store, "not this one", fixed_now)


async def test_an_unchanged_backup_is_one_small_object(vault: Vault) -> None:
    index = PackIndex()
    await store_backup(vault, index, DOCUMENTS)
    _, written = await store_backup(vault, index, DOCUMENTS, sequence=2)
    assert (written.objects, written.chunks) == (1, 0)
    assert written.bytes < 4096


async def test_an_unchanged_backup_is_one_object_after_a_restart_too(vault: Vault) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS)
    fresh = PackIndex()
    await fresh.refresh(vault)
    _, written = await store_backup(vault, fresh, DOCUMENTS, sequence=2)
    assert written.objects == 1


async def test_content_under_random_keys_is_not_shared(vault: Vault) -> None:
    index = PackIndex()
    await store_backup(vault, index, {"/etc/shadow": b"x" * 1000}, apart=True)
    backup, written = await store_backup(
        vault, index, {"/etc/shadow": b"x" * 1000}, apart=True, sequence=2
    )
    assert written.chunks > 0
    assert await read_back(vault, backup) == {"/etc/shadow": b"x" * 1000}


async def test_a_manifest_of_many_documents_stays_behind_a_small_record(vault: Vault) -> None:
    many = {f"/etc/conf.d/{n:05}": b"" for n in range(12_000)}
    backup, _ = await store_backup(vault, PackIndex(), many)
    [name] = await vault.record_names()
    assert len(await vault.store.get(name)) < 4096
    assert await read_back(vault, backup) == many


@pytest.mark.parametrize("puts", [0, 1, 2])
async def test_a_run_that_dies_leaves_no_record_and_the_next_one_succeeds(
    store_folder: Path, puts: int
) -> None:
    vault = await make_vault(store_folder)
    whole = vault.store
    vault.store = FailingStore(whole, after=puts)
    with pytest.raises(FennoxError):
        await store_backup(vault, PackIndex(), DOCUMENTS)
    vault.store = whole
    assert await all_backups(vault) == []
    index = PackIndex()
    await index.refresh(vault)
    backup, _ = await store_backup(vault, index, DOCUMENTS)
    assert await read_back(vault, backup) == DOCUMENTS


async def test_a_record_whose_put_was_reported_as_failed_is_there(store_folder: Path) -> None:
    vault = await make_vault(store_folder)
    vault.store = ForgetfulStore(vault.store, ".fxr")
    with pytest.raises(FennoxError):
        await store_backup(vault, PackIndex(), DOCUMENTS)
    assert len(await all_backups(vault)) == 1


@pytest.mark.parametrize("harm", ["flip", "cut", "remove", "swap"])
async def test_a_harmed_pack_is_named_and_nothing_of_it_is_given_out(
    vault: Vault, store_folder: Path, harm: str
) -> None:
    backup, _ = await store_backup(vault, PackIndex(), DOCUMENTS)
    paths = sorted((store_folder / "packs").glob("*/*.fxp"), key=lambda path: path.stat().st_size)
    victim = paths[-1]
    data = bytearray(victim.read_bytes())
    match harm:
        case "flip":
            data[len(data) // 2] ^= 1
            victim.write_bytes(data)
        case "cut":
            victim.write_bytes(data[:-1])
        case "remove":
            victim.unlink()
        case "swap":
            victim.write_bytes(paths[0].read_bytes())
    with pytest.raises(Damaged):
        await read_back(vault, backup)


async def test_damaged_content_is_written_anew_once_its_pack_is_known_to_be_bad(
    vault: Vault, store_folder: Path
) -> None:
    index = PackIndex()
    await store_backup(vault, index, DOCUMENTS)
    for path in (store_folder / "packs").glob("*/*.fxp"):
        path.write_bytes(path.read_bytes()[:-5])
    fresh = PackIndex()
    await fresh.refresh(vault)
    assert len(fresh.damaged) == 2
    vault.now = lambda: fixed_now().replace(month=4)
    backup, _ = await store_backup(vault, fresh, DOCUMENTS, sequence=2)
    assert await read_back(vault, backup) == DOCUMENTS


async def test_a_pack_found_damaged_while_reading_is_out_of_reuse_and_the_next_backup_is_whole(
    vault: Vault, store_folder: Path
) -> None:
    index = PackIndex()
    backup, _ = await store_backup(vault, index, DOCUMENTS)
    victim = max((store_folder / "packs").glob("*/*.fxp"), key=lambda path: path.stat().st_size)
    data = bytearray(victim.read_bytes())
    data[300_000] ^= 1
    victim.write_bytes(data)
    reader = BackupReader(vault, index, await vault.find_record(backup))
    [part] = (await reader.head()).parts
    whole, broken = {}, []
    async for document in reader.documents(part):
        try:
            whole[document.path] = b"".join([piece async for piece in reader.content(document)])
        except Damaged:
            broken.append(document.path)
    assert broken == ["/etc/big"]
    assert whole == {path: data for path, data in DOCUMENTS.items() if path != "/etc/big"}
    vault.now = lambda: fixed_now().replace(month=4)
    again, written = await store_backup(vault, index, DOCUMENTS, sequence=2)
    assert written.bytes > 700_000
    assert await read_back(vault, again) == DOCUMENTS


async def test_condemned_packs_are_absent_for_a_new_backup(vault: Vault) -> None:
    index = PackIndex()
    await store_backup(vault, index, DOCUMENTS)
    condemned = [
        found.name.rsplit("/", 1)[-1].removesuffix(".fxp")
        async for found in vault.store.list("packs/")
    ]
    sweep = sweeps.Sweep(
        stage="condemned", time="20260302T000000Z", by="t", condemned=condemned, removed=[]
    )
    await vault.store.put(
        sweeps.name("20260302T000000Z", "00aa"),
        sweeps.encode(sweep, vault.secret, vault.id, vault.salt()),
    )
    vault.now = lambda: fixed_now().replace(month=4)
    _, written = await store_backup(vault, index, DOCUMENTS, sequence=2)
    assert written.chunks >= 3


async def test_a_record_under_another_name_or_with_a_changed_byte_is_damage(
    vault: Vault, store_folder: Path
) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS)
    [name] = await vault.record_names()
    data = bytearray((store_folder / name).read_bytes())
    data[60] ^= 1
    with pytest.raises(Damaged):
        records.decode(bytes(data), vault.secret, vault.id)
    moved = object_name("systems/web-9-5e5e5e5e/20200101T000000Z.backup.abababab.fxr")
    await vault.store.put(moved, (store_folder / name).read_bytes())
    _, bad = await record_lists.list_backups(vault)
    assert [name for name, _ in bad] == [moved]


async def test_a_store_is_not_made_over_another(vault: Vault) -> None:
    keys = headers.new_keys("ab" * 16, 1, "x25519-sha256-aes256gcm", os.urandom)
    with pytest.raises(Conflict, match="already holds a store"):
        await opened_store.create(vault.store, keys, sweeper="s", slots=[], now=fixed_now)


async def test_a_header_that_the_service_did_not_write_stops_it(
    vault: Vault, store_folder: Path
) -> None:
    pinned = headers.encode(vault.header)
    other = vault.header.model_copy(update={"revision": 2}).signed(
        vault.secret, vault.opening_key()
    )
    await vault.store.put(headers.name(other), headers.encode(other))
    with pytest.raises(StoreUnusable, match="not the one this service wrote"):
        await opened_store.open_pinned(
            FolderStore(store_folder), pinned=pinned, held=vault.held, opening=None, now=fixed_now
        )


async def test_a_header_signed_while_the_store_was_away_is_written_when_it_is_opened(
    vault: Vault,
) -> None:
    newer = vault.header.model_copy(update={"revision": 2}).signed(
        vault.secret, vault.opening_key()
    )
    opened = await opened_store.open_pinned(
        vault.store, pinned=headers.encode(newer), held=vault.held, opening=None, now=fixed_now
    )
    assert opened.header.revision == 2
    assert await vault.store.stat(headers.name(newer)) is not None


async def test_only_the_last_three_headers_stay(vault: Vault) -> None:
    for revision in range(2, 7):
        header = vault.header.model_copy(update={"revision": revision}).signed(
            vault.secret, vault.opening_key()
        )
        await vault.store.put(headers.name(header), headers.encode(header))
    await opened_store.forget_old_headers(vault)
    left = [headers.decode(data).revision for data in await opened_store.read_headers(vault.store)]
    assert sorted(left) == [4, 5, 6]


async def test_headers_that_a_withdrawn_passphrase_opens_go_at_once_and_others_stay(
    vault: Vault,
) -> None:
    keys = NewKeys(vault.opening_key(), vault.secret)
    other = headers.new_slot(
        keys, "another", label="other", since="20260301T120000Z", costs=CHEAP, random=token_bytes
    )
    both = vault.header.model_copy(update={"revision": 2, "slots": [*vault.header.slots, other]})
    both = both.signed(vault.secret, vault.opening_key())
    await vault.store.put(headers.name(both), headers.encode(both))
    foreign = both.model_copy(update={"mac_write": "0" * 64})
    await vault.store.put(headers.name(foreign), headers.encode(foreign))
    last = vault.header.model_copy(update={"revision": 3}).signed(vault.secret, vault.opening_key())
    vault.header = last
    await opened_store.forget_old_headers(vault)
    left = {
        headers.name(headers.decode(data)) for data in await opened_store.read_headers(vault.store)
    }
    assert headers.name(both) in left, "the newest is not there yet: what opens the store stays"
    await vault.store.put(headers.name(last), headers.encode(last))
    await opened_store.forget_old_headers(vault)
    left = {
        headers.name(headers.decode(data)) for data in await opened_store.read_headers(vault.store)
    }
    assert headers.name(both) not in left
    assert headers.name(last) in left
    assert headers.name(foreign) in left, "what somebody else has put there is the scrub's to tell"
