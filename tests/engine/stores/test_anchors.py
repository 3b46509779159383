"""Anchors as they lie in another store, and which of them a sweep leaves there."""

from __future__ import annotations

from pathlib import Path

from fennox.core.format.anchors import Anchors
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.sweep import sweep
from tests.conftest import fixed_now, make_vault

OTHER, THIRD = "4" * 32, "6" * 32


def told(store: str, time: str) -> Anchors:
    return Anchors(store=store, time=time, by="f" * 32, generation=1, systems=[])


async def test_of_each_store_the_newest_three_stay_and_what_a_wrong_clock_dated_goes_first(
    store_folder: Path,
) -> None:
    vault = await make_vault(store_folder)
    ahead = [told(OTHER, f"2031010{day}T120000Z") for day in (1, 2, 3)]
    right = [told(OTHER, f"2026020{day}T120000Z") for day in (1, 2, 3, 4)]
    for one in [*ahead, *right, told(THIRD, "20260101T120000Z")]:
        await vault.write_anchors(one)
    await sweep(Holding(vault, PackIndex()), {}, vault.header.sweeper, fixed_now(), MemoryJournal())
    assert await vault.anchors_of(OTHER) == right[1:]
    assert len(await vault.anchors_of(THIRD)) == 1


async def test_an_anchor_that_cannot_be_read_is_passed_over(store_folder: Path) -> None:
    vault = await make_vault(store_folder)
    name = await vault.write_anchors(told(OTHER, "20260201T120000Z"))
    (store_folder / name).write_bytes(b"FXA")
    await vault.write_anchors(told(OTHER, "20260202T120000Z"))
    assert [one.time for one in await vault.anchors_of(OTHER)] == ["20260202T120000Z"]
