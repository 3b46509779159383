from __future__ import annotations

from pathlib import Path

import pytest

from fennox.core.errors import Damaged, PassphraseNeeded
from fennox.core.format import notes
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding, copy
from tests.backups import read_back, store_backup
from tests.conftest import fixed_now
from tests.engine.two_stores import holding, new_keys

DOCUMENTS = {
    "/etc/hosts": b"127.0.0.1 pier\n",
    "/etc/big": bytes(range(256)) * 2000,
    "/etc/empty": b"",
}


async def copied(source: Holding, target: Holding, backup: str) -> object:
    return await copy(source, target, await source.vault.find_record(backup), MemoryJournal())


@pytest.mark.parametrize("names", [(True, True), (True, False), (False, True)])
async def test_within_a_key_set_a_backup_travels_sealed_and_opens_to_the_same(
    tmp_path: Path, names: tuple[bool, bool]
) -> None:
    keys = new_keys()
    source = await holding(tmp_path / "a", keys, fixed_now, plain_names=names[0], apart=True)
    target = await holding(tmp_path / "b", keys, fixed_now, plain_names=names[1], apart=True)
    backup, _ = await store_backup(source.vault, source.index, DOCUMENTS)
    record = await source.vault.find_record(backup)
    await source.vault.write_note(
        notes.Note(
            fact="hold",
            backup=backup,
            system="5e" * 16,
            time="20260301T120000Z",
            by="x",
            reason="kept",
        ),
        record.reference,
    )
    done = await copy(source, target, record, MemoryJournal())
    assert not done.anew
    target.vault.unlock(keys.opening)
    assert await read_back(target.vault, backup) == DOCUMENTS
    [name] = await target.vault.record_names()
    [note] = (await target.vault.notes_of(name)).values()
    assert (note.fact, note.reason) == ("hold", "kept")
    again = await copy(source, target, record, MemoryJournal())
    assert again.written.objects == 0


async def test_what_the_target_holds_already_is_not_sent_again(tmp_path: Path) -> None:
    keys = new_keys()
    source, target = [await holding(tmp_path / name, keys, fixed_now) for name in "ab"]
    first, _ = await store_backup(source.vault, source.index, DOCUMENTS)
    await copied(source, target, first)
    second, _ = await store_backup(
        source.vault, source.index, {**DOCUMENTS, "/etc/new": b"1"}, sequence=2
    )
    done = await copy(source, target, await source.vault.find_record(second), MemoryJournal())
    assert done.written.bytes < 20_000
    assert await read_back(target.vault, second) == {**DOCUMENTS, "/etc/new": b"1"}


async def test_across_key_sets_a_backup_is_opened_and_sealed_anew(tmp_path: Path) -> None:
    source = await holding(tmp_path / "a", new_keys(), fixed_now)
    target = await holding(tmp_path / "b", new_keys(), fixed_now)
    backup, _ = await store_backup(source.vault, source.index, DOCUMENTS)
    done = await copy(source, target, await source.vault.find_record(backup), MemoryJournal())
    assert done.anew
    assert await read_back(target.vault, backup) == DOCUMENTS
    here = {path.name for path in (tmp_path / "a/packs").rglob("*.fxp")}
    assert here.isdisjoint({path.name for path in (tmp_path / "b/packs").rglob("*.fxp")})


async def test_across_key_sets_a_store_kept_apart_asks_for_the_passphrase(tmp_path: Path) -> None:
    source = await holding(tmp_path / "a", new_keys(), fixed_now, apart=True)
    target = await holding(tmp_path / "b", new_keys(), fixed_now)
    backup, _ = await store_backup(source.vault, source.index, DOCUMENTS)
    with pytest.raises(PassphraseNeeded):
        await copied(source, target, backup)
    assert await target.vault.record_names() == []


async def test_damage_is_not_copied(tmp_path: Path) -> None:
    keys = new_keys()
    source, target = [await holding(tmp_path / name, keys, fixed_now) for name in "ab"]
    backup, _ = await store_backup(source.vault, source.index, DOCUMENTS)
    for pack in (tmp_path / "a/packs").rglob("*.fxp"):
        data = bytearray(pack.read_bytes())
        data[-20] ^= 1
        pack.write_bytes(data)
    with pytest.raises(Damaged):
        await copied(source, target, backup)
    assert await target.vault.record_names() == []
