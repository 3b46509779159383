"""A process that takes, copies and sweeps without end, for a test that kills it: ``victim.py FOLDER
SEED``.

It says each thing it is sure of in a line: ``took ID``, ``copied ID``, ``expired ID``. What a
backup holds follows from its id, so that whoever hears the line knows what must come back.
"""

from __future__ import annotations

import asyncio
import random
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding, copy
from fennox.engine.stores.sweep import sweep
from fennox.engine.stores.sweep_plan import GRACE
from fennox.stores.folder import FolderStore
from tests.backups import store_backup
from tests.conftest import PASSPHRASE
from tests.engine.two_stores import SERVICE

KEPT = 3


def contents(name: str) -> dict[str, bytes]:
    """A document that changes with the backup, some that come again, one that never changes."""
    chance = random.Random(name)
    shared = {
        f"/s{number}": random.Random(number).randbytes(70_000)
        for number in chance.sample(range(5), 2)
    }
    return {"/own": chance.randbytes(chance.randrange(200_000)), "/same": b"same" * 9000, **shared}


async def open_pair(folder: Path, now: datetime) -> tuple[Holding, Holding]:
    def clock() -> datetime:
        return now

    one, two = [
        Holding(
            await opened_store.open_with_passphrase(FolderStore(folder / name), PASSPHRASE, clock),
            PackIndex(),
        )
        for name in ("one", "two")
    ]
    return one, two


def say(*words: str) -> None:
    sys.stdout.write(" ".join(words) + "\n")
    sys.stdout.flush()


async def live(folder: Path, seed: int) -> None:
    chance = random.Random(seed)
    # each life is a week after the one before it, so that the grace of what it condemned has ended
    now = datetime.now(UTC) + timedelta(days=7 * seed)
    number = 0
    while True:
        now += GRACE / 5
        number += 1
        one, two = await open_pair(folder, now)
        name = f"{seed}-{number}"
        backup, _ = await store_backup(
            one.vault, one.index, contents(name), name=name, sequence=seed * 10_000 + number
        )
        say("took", backup, name)
        if chance.random() < 0.6:
            await copy(one, two, await one.vault.find_record(backup), MemoryJournal())
            say("copied", backup, name)
        records, _ = await record_lists.list_backups(one.vault)
        gone = [record.reference.backup for record in records[:-KEPT]]
        for old in gone:
            say("expired", old, "-")
        await sweep(one, dict.fromkeys(gone, "it is old"), SERVICE, now, MemoryJournal())


if __name__ == "__main__":
    asyncio.run(live(Path(sys.argv[1]), int(sys.argv[2])))
