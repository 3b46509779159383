"""How long comparing and tracing take: 5,000 documents against 5,000, and one value through 365
backups.

    .venv/bin/python -m benchmarks.compare

Prints medians in seconds of a folder on this disk, and as ratios to reading the newest backup whole
in the same run.
"""

from __future__ import annotations

import asyncio
import json
import statistics
import tempfile
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from datetime import UTC, datetime
from pathlib import Path

from tests.backups import commit, write_document
from tests.core.test_compare import KIND
from tests.engine.two_stores import holding, new_keys

from fennox.core.compare.value_search import Question
from fennox.core.format.manifest import Document
from fennox.core.kind_files.loading import load
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.inspection.backup_comparison import compare, side_of
from fennox.engine.inspection.value_trace import Trace
from fennox.engine.processes.evaluator_pool import Evaluators
from fennox.engine.stores.copy_backup import Holding
from fennox.stores.whole import WholeObjects

DOCUMENTS, BACKUPS, ROUNDS = 5_000, 365, 5
TRACED = "/etc/kea/subnets.json"
SALT = b"s" * 16


def content(path: str, day: int) -> bytes:
    """The traced value changes every 30 days; ten other documents change each day."""
    if path == TRACED:
        return json.dumps(
            {"lease": day // 30, "subnets": [{"id": n, "x": n} for n in range(200)]}
        ).encode()
    number = int(path[-8:-4])
    seen = day if number // 10 == day % (DOCUMENTS // 10) else 0
    return "".join(f"{path} line {line} {seen * (line == 7)}\n" for line in range(12)).encode()


async def fill(here: Holding) -> list[str]:
    paths = [
        TRACED,
        *(f"/etc/saltmere/{number % 50:02}/{number:04}.txt" for number in range(DOCUMENTS - 1)),
    ]
    held: dict[str, tuple[bytes, Document]] = {}
    found = []
    for day in range(BACKUPS):
        writer = BackupWriter(here.vault, here.index, await here.vault.condemned())
        for path in paths:
            data = content(path, day)
            known = held.get(path)
            if known is not None and known[0] == data:
                for key in known[1].chunks:
                    assert writer.holds(bytes.fromhex(key.id))
            else:
                held[path] = (
                    data,
                    await write_document(writer, path, _once(data), len(data), apart=False),
                )
        found.append(
            await commit(
                writer, [held[path][1] for path in sorted(held)], name="", sequence=day + 1
            )
        )
    return found


async def _once(data: bytes) -> AsyncIterator[bytes]:
    yield data


async def main() -> None:
    kind = load(KIND)
    evaluators = Evaluators()
    with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
        here = await holding(Path(folder) / "store", new_keys(), lambda: datetime.now(UTC))
        backups = await fill(here)
        found = {
            name: await here.vault.read_record(name) for name in await here.vault.record_names()
        }
        records = {record.reference.backup: record for record in found.values()}
        names = {record.reference.backup: name for name, record in found.items()}

        here.vault.store = WholeObjects(here.vault.store)  # as the service reads

        def reader(backup: str) -> BackupReader:
            return BackupReader(here.vault, here.index, records[backup])

        async def read() -> str:
            newest = reader(backups[-1])
            size = 0
            async for document in newest.documents(await newest.part("settings")):
                size += len(b"".join([piece async for piece in newest.content(document)]))
            return f"{size / 1e6:.1f} MB"

        async def compared() -> str:
            first, last = await side_of(reader(backups[0])), await side_of(reader(backups[-1]))
            comparison = await compare(kind, first, last, SALT, evaluators)
            return f"{len(comparison.documents)} documents differ, {comparison.same} are equal"

        async def traced() -> str:
            trace = Trace(kind, Question(TRACED, jsonpath="$.lease"), SALT, evaluators)
            for backup in backups:
                record = await here.vault.read_record(names[backup])
                await trace.look(BackupReader(here.vault, here.index, record))
            return f"{len(trace.standings)} states in {trace.looked_at} backups"

        base = 0.0
        for name, work in (("read whole", read), ("compare", compared), ("trace", traced)):
            taken, said = await _timed(work)
            base = base or taken
            print(f"  {name:<11}{taken:6.2f} s  {taken / base:5.2f}   {said}")
    await evaluators.close()


async def _timed(work: Callable[[], Awaitable[str]]) -> tuple[float, str]:
    seconds, said = [], ""
    for _ in range(ROUNDS):
        began = time.perf_counter()
        said = await work()
        seconds.append(time.perf_counter() - began)
    return statistics.median(seconds), said


if __name__ == "__main__":
    asyncio.run(main())
