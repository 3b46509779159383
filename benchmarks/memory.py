"""How much memory a large part takes: it streams through take, copy, verify and restore, and the
peak is printed.

    python benchmarks/memory.py [--megabytes 5000]

The promise is under 200 MB of resident memory for a part of 5 GB. The content is made up as it is
read and is not kept, so two stores of its size are all the room that is needed.
"""

from __future__ import annotations

import argparse
import asyncio
import os
import random
import resource
import secrets
import sys
import tempfile
import time
from collections.abc import AsyncIterator
from datetime import UTC, datetime
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.backups import store_stream
from tests.engine.two_stores import holding, new_keys

from fennox.core.format.primitives.digest import Digest
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import copy
from fennox.engine.stores.faults import damaged_documents
from fennox.engine.stores.scrub import scrub
from fennox.service.foundation import memory

_BLOCK = 1024 * 1024


async def made_up(megabytes: int) -> AsyncIterator[bytes]:
    """Half noise, half text."""
    chance = random.Random(3)
    words = [secrets.token_hex(5) for _ in range(2000)]
    text = " ".join(chance.choices(words, k=_BLOCK // 22)).encode()
    for number in range(megabytes):
        yield os.urandom(500_000) + text[: 500_000 - 8] + number.to_bytes(8, "big")


def peak() -> int:
    """Peak resident memory of this process in megabytes."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 // 1_000_000


async def run(megabytes: int) -> None:
    print(f"at rest: {peak()} MB")
    with tempfile.TemporaryDirectory() as folder:
        keys = new_keys()
        one, two = [
            await holding(Path(folder) / name, keys, lambda: datetime.now(UTC))
            for name in ("one", "two")
        ]

        def told(what: str, since: float) -> None:
            print(
                f"{what:<8} {time.monotonic() - since:6.1f} s, peak so far {peak()} MB", flush=True
            )

        begun = time.monotonic()
        backup, digest = await store_stream(
            one.vault, one.index, "/big", made_up(megabytes), megabytes * 1_000_000
        )
        told("take", begun)
        begun = time.monotonic()
        record = await one.vault.find_record(backup)
        await copy(one, two, record, MemoryJournal())
        told("copy", begun)
        begun = time.monotonic()
        assert (await scrub(two, [backup], MemoryJournal())).sound
        told("scrub", begun)
        begun = time.monotonic()
        reader = BackupReader(two.vault, two.index, await two.vault.find_record(backup))
        assert await damaged_documents(reader) == []
        told("verify", begun)
        begun = time.monotonic()
        restored = Digest()
        for part in (await reader.head()).parts:
            async for document in reader.documents(part):
                async for piece in reader.content(document):
                    restored.update(piece)
        assert restored.hexdigest() == digest
        told("restore", begun)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--megabytes", type=int, default=5000)
    memory.keep_small()
    asyncio.run(run(parser.parse_args().megabytes))


if __name__ == "__main__":
    main()
