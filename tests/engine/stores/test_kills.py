"""Real SIGKILLs in the middle of take, copy and sweep: what was said to be taken opens, nothing is
half there.

``--kills`` says how often; ``make soak`` does it by the hundred.
"""

from __future__ import annotations

import random
import select
import subprocess
import sys
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.scrub import scrub
from fennox.engine.stores.sweep import sweep
from fennox.engine.stores.sweep_plan import GRACE
from fennox.stores.folder import FolderStore
from tests.backups import read_back
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.two_stores import SERVICE, holding, new_keys
from tests.engine.victim import contents, open_pair

ROOT = Path(__file__).parents[3]


class Told:
    """What the killed processes were sure of."""

    def __init__(self) -> None:
        self.names: dict[str, str] = {}
        self.taken: set[str] = set()
        self.copied: set[str] = set()

    def hear(self, line: str) -> None:
        what, backup, name = line.split()
        if what == "took":
            self.names[backup] = name
            self.taken.add(backup)
        elif what == "copied":
            self.copied.add(backup)
        else:
            self.taken.discard(backup)


def live_and_die(folder: Path, seed: int, told: Told) -> None:
    """Let a process live for some lines and a moment more; then it dies, wherever it is."""
    chance = random.Random(seed)
    words = [sys.executable, "-m", "tests.engine.victim", str(folder), str(seed)]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True, cwd=ROOT) as process:
        assert process.stdout is not None
        for _ in range(chance.randrange(1, 9)):
            line = process.stdout.readline()
            assert line, "it ended by itself"
            told.hear(line)
        dies = time.monotonic() + chance.random() * 0.06
        while (left := dies - time.monotonic()) > 0:
            if select.select([process.stdout], [], [], left)[0]:
                line = process.stdout.readline()
                assert line, "it ended by itself"
                told.hear(line)
        process.kill()
        for line in process.stdout:  # what it had said before it died
            if line.endswith("\n"):
                told.hear(line)


async def check(folder: Path, told: Told, *, newest: int | None = None) -> None:
    """``newest``: only so many backups of each store are read back."""
    for name, wanted in (("one", told.taken), ("two", told.copied)):
        store = (await open_pair(folder, datetime.now(UTC)))[name == "two"]
        good, bad = await record_lists.list_backups(store.vault)
        assert bad == [], "no record is half there"
        there = {record.reference.backup for record in good}
        assert wanted <= there, f"{name} lost {wanted - there}"
        index = PackIndex()
        await index.refresh(store.vault)
        good.sort(key=lambda record: record.reference.time)
        for record in good[-newest:] if newest is not None else good:
            reference = record.reference
            told_by_it = await read_back(store.vault, reference.backup, index)
            assert told_by_it == contents(reference.name)


@pytest.mark.long
async def test_a_process_that_is_killed_again_and_again_loses_nothing_and_leaves_no_rest(
    tmp_path: Path, kills: int
) -> None:
    keys = new_keys()
    for name in ("one", "two"):
        await holding(tmp_path / name, keys, fixed_now)
    told = Told()
    for seed in range(kills):
        live_and_die(tmp_path, seed, told)
        if seed % 5 == 4 or seed == kills - 1:
            # all of them now and then: each reading takes as long as there are backups
            await check(tmp_path, told, newest=None if seed % 50 == 49 or seed == kills - 1 else 20)
    assert len(told.names) >= kills, "every life took something"
    later = datetime.now(UTC) + timedelta(days=7 * kills + 7)
    for name in ("one", "two"):
        for wait in range(4):
            here = await _holding(tmp_path / name)
            await sweep(here, {}, SERVICE, later + wait * GRACE * 1.1, MemoryJournal())
        here = await _holding(tmp_path / name)
        report = await scrub(here, [], MemoryJournal())
        assert report.faults == []
        needed: set[str] = set()
        for record in report.records.values():
            chunks = await BackupReader(here.vault, here.index, record).needed()
            needed |= {place.pack for chunk in chunks for place in here.index.places(chunk)}
        assert set(here.index.packs) == needed, "what no backup needs is gone after the grace"
        assert [path for path in (tmp_path / name).rglob(".*.tmp")] == []


async def _holding(folder: Path) -> Holding:
    vault = await opened_store.open_with_passphrase(FolderStore(folder), PASSPHRASE, fixed_now)
    return Holding(vault, PackIndex())


@pytest.fixture
def kills(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--kills"))
