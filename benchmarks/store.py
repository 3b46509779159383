"""What a store costs against `tar | zstd -3 | age`: ratios of time in one run, sizes, and requests
by protocol.

    python benchmarks/store.py [--megabytes 300] [--rounds 3]

The tree is mixed: settings as text, rows of a table, and what does not compress. Both sides read
the same files from the same disk; ours cuts, names, compresses, seals, packs and syncs each pack,
the pipe writes one file. Rounds alternate, since the speed of a machine changes by the minute.
Nothing here is a test.
"""

from __future__ import annotations

import argparse
import asyncio
import os
import queue
import random
import secrets
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.stores import servers

from fennox.core.format import header as headers
from fennox.core.format import records
from fennox.core.format.manifest import Document, Head, KindFile, Machine, Reached
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import CLASSIC
from fennox.core.format.slots import Costs
from fennox.core.names import ObjectName
from fennox.core.time import stamp
from fennox.engine.backups import opened_store
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.reading.file_stamps import same, stored_part, trusted
from fennox.engine.reading.file_survey import Places
from fennox.stores.addresses import parse
from fennox.stores.base import Span, Store, Wrapped
from fennox.stores.folder import FolderStore
from fennox.stores.opening import open_store
from fennox.stores.whole import WholeObjects

_BLOCK = 1024 * 1024


class Counting(Wrapped):
    """Counts the requests a far side gets."""

    def __init__(self, inner: Store) -> None:
        super().__init__(inner)
        self.asked: dict[str, int] = {}

    def _count(self, verb: str) -> None:
        self.asked[verb] = self.asked.get(verb, 0) + 1

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        self._count("put")
        await super().put(name, data, retain_until=retain_until)

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        self._count("get")
        return await super().get(name, span)

    async def list(self, prefix: str):  # type: ignore[no-untyped-def]  # as in Wrapped
        self._count("list")
        async for found in super().list(prefix):
            yield found


def make_tree(folder: Path, megabytes: int) -> None:
    """A third each of settings, rows and noise."""
    chance = random.Random(7)
    share = megabytes * 1_000_000 // 3
    words = [secrets.token_hex(4) for _ in range(3000)]
    for number in range(max(1, share // 60_000)):
        path = folder / f"etc/{number % 40:02}/{number:05}.conf"
        path.parent.mkdir(parents=True, exist_ok=True)
        lines = (
            f"{chance.choice(words)}.{line} = {' '.join(chance.choices(words, k=5))}"
            for line in range(1000)
        )
        path.write_text("\n".join(lines))
    (folder / "data").mkdir()
    with (folder / "data/rows.table").open("w") as rows:
        written = number = 0
        while written < share:
            number += 1
            written += rows.write(
                f"{number:09},{chance.choice(words)},{chance.random():.9f},{chance.choice(words)}\n"
            )
    with (folder / "data/noise.bin").open("wb") as noise:
        for _ in range(share // _BLOCK):
            noise.write(os.urandom(_BLOCK))


async def new_vault(store: Store) -> Vault:
    keys = headers.new_keys(secrets.token_hex(16), 1, CLASSIC, secrets.token_bytes)
    cheap = Costs(memory=64, passes=1, lanes=1)
    slot = headers.new_slot(
        keys, "x", label="x", since="20260101T000000Z", costs=cheap, random=secrets.token_bytes
    )
    return await opened_store.create(
        store, keys, sweeper="5a" * 16, slots=[slot], now=lambda: datetime.now(UTC)
    )


async def blocks(path: Path) -> AsyncIterator[bytes]:
    with path.open("rb") as file:
        while block := file.read(_BLOCK):
            yield block


@dataclass(frozen=True)
class Bench:
    """The system of the benchmark, as trusting needs to know it."""

    folder: str = "bench-5e5e5e5e"
    kind_file: KindFile = field(default_factory=lambda: KindFile(name="bench", version=1, text=""))


async def take(
    vault: Vault,
    index: PackIndex,
    tree: Path,
    sequence: int,
    before: records.Previous | None = None,
) -> tuple[str, BackupWriter]:
    """``before``: trust the inodes, sizes and times of that backup, as a routine does on all nights
    but one a week.
    """
    await index.refresh(vault)
    writer = BackupWriter(vault, index, await vault.condemned())
    trust = await trusted(vault, index, writer.condemned, before, Bench(), "m")
    places = Places([[str(tree)]])
    asked = await asyncio.create_subprocess_exec(
        *places.question(stamps=True), stdout=subprocess.PIPE
    )
    answer, _ = await asked.communicate()
    [there] = places.surveys(answer, whole=asked.returncode == 0)
    seen = there.look
    assert seen is not None
    over = same(trust.known.get("tree", {}), seen.stamps)
    assert all(
        writer.holds(bytes.fromhex(key.id)) for there in over.values() for key in there.chunks
    )
    held = list(over.values())
    for name in sorted(
        name for name, type_ in seen.types.items() if type_ == b"f" and name not in over
    ):
        path = Path(os.fsdecode(name))
        status = os.stat(path)
        content = await writer.add_content(blocks(path), expected=status.st_size)
        held.append(
            Document(
                path=str(path),
                type="file",
                mode=0o644,
                modified=int(status.st_mtime),
                size=content.size,
                digest=content.digest,
                chunks=content.chunks,
                stamp=seen.stamps.get(name),
            )
        )
    part = await stored_part(writer, trust, "tree", "Tree", held)
    backup = secrets.token_hex(16)
    head = Head(
        kind=KindFile(name="bench", version=1, text=""),
        settings={},
        parts=[part],
        census={},
        expected={},
        machine=Machine(id="m", product="p", version="1"),
        reached=Reached(address="a", account="b", key="c"),
        findings=[],
        left_out=[],
        routine=None,
        fennox="bench",
    )
    root, sealed = await writer.seal_manifest(head, backup)
    assert not writer.relies_on(await vault.condemned())
    reference = records.Reference(
        backup=backup,
        run="r" * 32,
        attempt=1,
        system="5e" * 16,
        system_name="bench",
        folder="bench-5e5e5e5e",
        kind="bench",
        name="",
        note="",
        purpose="backup",
        time=stamp(datetime.now(UTC)),
        sequence=sequence,
        previous=None,
        parts=["tree"],
        partial=False,
        routine=None,
        generation=1,
        origin=vault.id,
        id_list=root,
        sizes=records.Sizes(documents=len(held), bytes=part.bytes, new_chunks=0, new_bytes=0),
        sealed_digest=blake2b_256(sealed),
        read_whole=stamp(datetime.now(UTC)),
    )
    await writer.commit(reference, sealed, MemoryJournal().check)
    return backup, writer


async def restore(vault: Vault, backup: str, tree: Path, to: Path) -> None:
    """Files are made by a thread of their own, as tar is a process of its own in the pipe."""
    index = PackIndex()
    await index.refresh(vault)
    here = replace(vault, store=WholeObjects(vault.store))
    reader = BackupReader(here, index, await vault.find_record(backup))
    ready: queue.Queue[list[Path | bytes] | None] = queue.Queue(maxsize=16)
    held: list[Path | bytes] = []
    room = _BLOCK
    writer = threading.Thread(target=_write_files, args=(ready,))
    writer.start()

    async def hand_over() -> None:
        nonlocal held, room
        batch, held, room = held, [], _BLOCK
        try:
            ready.put_nowait(batch)
        except queue.Full:
            await asyncio.to_thread(ready.put, batch)

    for part in (await reader.head()).parts:
        async for document in reader.documents(part):
            held.append(to / Path(document.path).relative_to(tree))
            async for piece in reader.content(document):
                held.append(piece)
                room -= len(piece)
                if room < 0:
                    await hand_over()
    await hand_over()
    await asyncio.to_thread(ready.put, None)
    await asyncio.to_thread(writer.join)


def _write_files(ready: queue.Queue[list[Path | bytes] | None]) -> None:
    file = None
    for item in chain.from_iterable(iter(ready.get, None)):
        if isinstance(item, bytes):
            assert file is not None
            file.write(item)
            continue
        if file is not None:
            file.close()
        item.parent.mkdir(parents=True, exist_ok=True)
        file = item.open("wb", buffering=0)
    if file is not None:
        file.close()


def by_hand(tree: Path, to: Path, recipient: str) -> None:
    script = 'set -o pipefail; tar -C "$0" -cf - . | zstd -3 -q | age -r "$2" > "$1"'
    subprocess.run(["bash", "-c", script, str(tree), str(to), recipient], check=True)


def by_hand_back(archive: Path, to: Path, identity: Path) -> None:
    to.mkdir()
    script = 'set -o pipefail; age -d -i "$2" "$0" | zstd -dq | tar -C "$1" -xf -'
    subprocess.run(["bash", "-c", script, str(archive), str(to), str(identity)], check=True)


def timed(act: Callable[[], object]) -> float:
    started = time.monotonic()
    act()
    return time.monotonic() - started


def change_one_stretch(tree: Path) -> None:
    """One percent of the rows, all in one place."""
    path = tree / "data/rows.table"
    with path.open("r+b") as file:
        size = path.stat().st_size
        file.seek(size // 3)
        file.write(os.urandom(size // 200).hex().encode())


def change_scattered_rows(tree: Path) -> None:
    """One percent of the rows, anywhere in the table."""
    chance = random.Random(11)
    with (tree / "data/rows.table").open("r+b") as file:
        rows = file.read().split(b"\n")
        for number in chance.sample(range(len(rows)), len(rows) // 100):
            rows[number] = rows[number][:10] + secrets.token_hex(4).encode() + rows[number][18:]
        file.seek(0)
        file.write(b"\n".join(rows))


def one_round(tree: Path, work: Path, recipient: str, identity: Path) -> dict[str, float]:
    """Seconds by name; the tree is left changed."""
    found: dict[str, float] = {}
    time.sleep(6)  # files that were just written are not trusted the next time
    (work / "store").mkdir()
    vault = asyncio.run(new_vault(FolderStore(work / "store")))
    index = PackIndex()
    kept: list[tuple[str, BackupWriter]] = []

    def ours(sequence: int, before: str | None = None) -> Callable[[], object]:
        previous = records.Previous(backup=before, digest="") if before else None
        return lambda: kept.append(asyncio.run(take(vault, index, tree, sequence, previous)))

    found["pipe"] = timed(lambda: by_hand(tree, work / "archive", recipient))
    found["first"] = timed(ours(1))
    found["unchanged"] = timed(ours(2))
    found["trusting"] = timed(ours(4, kept[0][0]))
    found["bytes pipe"] = (work / "archive").stat().st_size
    found["bytes first"], found["bytes unchanged"] = (
        kept[0][1].written.bytes,
        kept[1][1].written.bytes,
    )
    found["pipe back"] = timed(lambda: by_hand_back(work / "archive", work / "back", identity))
    found["restore"] = timed(lambda: asyncio.run(restore(vault, kept[0][0], tree, work / "ours")))
    if subprocess.run(["diff", "-rq", str(tree), str(work / "ours")], check=False).returncode:
        sys.exit("what was restored is not what was taken")
    change_one_stretch(tree)
    found["next day"] = timed(ours(3))
    found["bytes next day"] = kept[3][1].written.bytes
    change_scattered_rows(tree)
    found["scattered"] = timed(ours(5))
    found["bytes scattered"] = kept[4][1].written.bytes
    shutil.rmtree(work)
    return found


async def requests(place: servers.Place) -> None:
    small = {"first": 1, "unchanged": 2}
    with tempfile.TemporaryDirectory() as folder:
        make_tree(Path(folder), 1)
        shutil.rmtree(Path(folder) / "data")
        inner = open_store(parse(place.url), place.credential, place.key)
        vault = await new_vault(inner)
        index = PackIndex()
        for name, sequence in small.items():
            counting = Counting(inner)
            vault.store = counting
            await take(vault, index, Path(folder), sequence)
            told = ", ".join(f"{count} {verb}" for verb, count in sorted(counting.asked.items()))
            print(f"  {place.url.split(':')[0]} {name}: {told}")
        await inner.close()


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--megabytes", type=int, default=300)
    parser.add_argument("--rounds", type=int, default=3)
    arguments = parser.parse_args()
    missing = [name for name in ("zstd", "age", "age-keygen") if shutil.which(name) is None]
    if missing:
        sys.exit(f"SKIPPED: {', '.join(missing)} missing (Debian: apt install zstd age)")
    with tempfile.TemporaryDirectory() as folder:
        base = Path(folder)
        identity = base / "identity"
        subprocess.run(["age-keygen", "-o", str(identity)], check=True, capture_output=True)
        recipient = subprocess.run(
            ["age-keygen", "-y", str(identity)], check=True, capture_output=True, text=True
        ).stdout.strip()
        make_tree(base / "tree", arguments.megabytes)
        rounds = [
            one_round(base / "tree", _work(base), recipient, identity)
            for _ in range(arguments.rounds)
        ]
    middle = {name: statistics.median(item[name] for item in rounds) for name in rounds[0]}
    print(
        f"{arguments.megabytes} MB, medians of {arguments.rounds} rounds; the pipe took"
        f" {middle['pipe']:.1f} s"
    )
    for name, base_name in (
        ("first", "pipe"),
        ("unchanged", "pipe"),
        ("trusting", "pipe"),
        ("next day", "pipe"),
        ("scattered", "pipe"),
        ("restore", "pipe back"),
    ):
        print(
            f"  {name:<10} {middle[name] / middle[base_name]:.2f} of {base_name}"
            f" ({middle[name]:.2f} s)"
        )
    for name in ("pipe", "first", "unchanged", "next day", "scattered"):
        size = middle[f"bytes {name}"]
        print(
            f"  {name:<10} {size / 1e6:10.3f} MB, {100 * size / middle['bytes pipe']:.4f} % of the"
            " pipe's"
        )
    print("Requests for a small backup:")
    with tempfile.TemporaryDirectory() as folder, servers.openssh(Path(folder)) as place:
        asyncio.run(requests(place))
    with tempfile.TemporaryDirectory() as folder, servers.moto() as server:
        asyncio.run(requests(servers.depot(server, Path(folder))))


def _work(base: Path) -> Path:
    work = base / f"work-{secrets.token_hex(4)}"
    work.mkdir()
    return work


if __name__ == "__main__":
    main()
