"""Two key generations in one store: sealing anew may die at any verb, and whoever reads sees each
backup once.
"""

from __future__ import annotations

import secrets
import shutil
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from fennox.core.errors import Damaged, WrongPassphrase
from fennox.core.format import generations, notes, records
from fennox.core.format.primitives.hpke import CLASSIC, HYBRID, OpeningKey
from fennox.core.format.slots import Slot
from fennox.engine.backups import opened_store
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.scrub import scrub
from fennox.engine.stores.sweep import sweep
from fennox.testing.stores import Died, StoppingStore
from tests.backups import all_backups, read_back, store_backup
from tests.conftest import NOON, PASSPHRASE, fixed_now
from tests.engine.two_stores import SERVICE, begin_generation, holding, new_keys, reseal

NEW = "nine lanterns on the breakwater wall"
DAYS = [{"/a": b"a" * 90_000, "/b": bytes([day])} for day in range(3)]


async def begun(folder: Path) -> tuple[Vault, list[str], Slot]:
    """A store with three backups, and a second generation of its keys that has just begun."""
    old = new_keys()
    here = await holding(folder, old, fixed_now)
    backups = [
        (await store_backup(here.vault, here.index, d, sequence=n))[0]
        for n, d in enumerate(DAYS, 1)
    ]
    held = await here.vault.find_record(backups[0])
    note = notes.Note(
        fact="hold",
        backup=backups[0],
        system="5e" * 16,
        time="20260301T120000Z",
        by="x",
        reason="kept",
    )
    await here.vault.write_note(note, held.reference)
    vault, slot = await begin_generation(here.vault, old, NEW)
    return vault, backups, slot


async def test_a_run_that_dies_at_any_verb_is_gone_on_with_and_no_backup_is_lost(
    tmp_path: Path, step: int
) -> None:
    vault, backups, slot = await begun(tmp_path / "one")
    plain = vault.store
    shutil.copytree(tmp_path / "one", tmp_path / "prepared")
    counting = StoppingStore(plain, None)
    vault.store = counting
    await reseal(vault, slot)
    assert counting.count > 40
    for verb in range(
        1, counting.count + 1, step if step % 2 else step + 1
    ):  # before and after a verb in turn
        shutil.rmtree(tmp_path / "one")
        shutil.copytree(tmp_path / "prepared", tmp_path / "one")
        vault.store = StoppingStore(plain, verb, after=verb % 2 == 0)
        with pytest.raises(Died):
            await reseal(vault, slot)
        vault.store = plain
        assert sorted(await all_backups(vault)) == sorted(backups)
        await reseal(vault, slot)
        await _is_whole(vault, backups)


async def _is_whole(vault: Vault, backups: list[str]) -> None:
    fresh = await opened_store.open_with_passphrase(vault.store, NEW, fixed_now)
    assert set(fresh.held) == {1, 2}
    for backup, documents in zip(backups, DAYS, strict=True):
        record = await fresh.find_record(backup)
        assert record.reference.generation == 2
        assert await read_back(fresh, backup) == documents
    [note] = (
        await fresh.notes_of(fresh.record_name((await fresh.find_record(backups[0])).reference))
    ).values()
    assert (note.fact, note.reason) == ("hold", "kept")
    with pytest.raises(WrongPassphrase):
        await opened_store.open_with_passphrase(vault.store, PASSPHRASE, fixed_now)


async def test_the_sweep_removes_what_was_sealed_anew_and_only_that(tmp_path: Path) -> None:
    vault, backups, slot = await begun(tmp_path / "one")
    clock = NOON

    def now() -> datetime:
        return clock

    vault = replace(vault, now=now)
    await reseal(vault, slot)
    before = set(await vault.record_names())
    superseded = 0
    for day in range(4):
        clock = datetime.now(NOON.tzinfo) + timedelta(days=3 * day + 3)
        superseded += (
            await sweep(Holding(vault, PackIndex()), {}, SERVICE, clock, MemoryJournal())
        ).superseded
    assert superseded == len(backups)
    left = await vault.record_names()
    assert {records.short_id(name) for name in left} == {backup[:8] for backup in backups}
    assert set(left) < before
    index = PackIndex()
    await index.refresh(vault)
    assert {table.generation for table in index.packs.values()} == {2}
    await _is_whole(vault, backups)
    assert (await scrub(Holding(vault, PackIndex()), backups, MemoryJournal())).sound
    lost = vault.record_name((await vault.find_record(backups[1])).reference)
    await vault.store.delete(lost)
    missed = await scrub(Holding(vault, PackIndex()), backups, MemoryJournal())
    assert missed.missing == [backups[1]], (
        "what was sealed anew and swept does not explain what is gone now"
    )


async def test_nothing_is_shared_between_generations(tmp_path: Path) -> None:
    vault, _, _ = await begun(tmp_path / "one")
    index = PackIndex()
    await index.refresh(vault)
    _, written = await store_backup(vault, index, DAYS[0], sequence=4)
    assert written.content >= 2, "the same content is named and sealed anew"


@pytest.mark.parametrize("suite", [CLASSIC, HYBRID])
def test_one_key_leads_to_all_before_it_and_to_none_after(suite: str) -> None:
    keys = [OpeningKey.generate(suite, secrets.token_bytes) for _ in range(3)]  # type: ignore[arg-type]
    chain = {
        number: generations.seal_previous(
            keys[number - 2], keys[number - 1].seal_key(), "k" * 32, number
        )
        for number in (2, 3)
    }
    assert generations.all_openings(keys[2], "k" * 32, 3, chain) == {
        3: keys[2],
        2: keys[1],
        1: keys[0],
    }
    assert generations.all_openings(keys[0], "k" * 32, 1, {}) == {1: keys[0]}
    with pytest.raises(Damaged):
        generations.all_openings(keys[0], "k" * 32, 3, chain)
    with pytest.raises(Damaged):
        generations.all_openings(keys[2], "j" * 32, 3, chain)
