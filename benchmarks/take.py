"""Taking over a real sshd against the pipe an administrator would write: ssh, tar, zstd, age.
Ratios of one run.

python benchmarks/take.py [--rounds 5]

2 MB in 40 files, then 200 MB in 5,000; all are taken in turn, and the medians are compared.
``unchanged`` reads all of it again, ``trusting`` only what has another inode, size or time, as
routines do. What ``confirms`` is the part in which a take looks at the packs it relies on and reads
back what it wrote.
"""

from __future__ import annotations

import argparse
import asyncio
import os
import secrets
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path

from fennox.core.format import header as headers
from fennox.core.format.manifest import KindFile, Reached
from fennox.core.format.primitives.hpke import CLASSIC
from fennox.core.format.records import Previous
from fennox.core.kind_files.loading import load
from fennox.core.time import stamp
from fennox.engine.backups import opened_store
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.processes.evaluator_pool import Evaluators
from fennox.engine.takes.take import take
from fennox.engine.takes.take_order import Subject, Taken, TakeRequest, TakeTools
from fennox.links.base import Address, Credential
from fennox.links.secure_shell import ssh
from fennox.stores.folder import FolderStore
from saltmere.linux import LinuxServer, new_key_pair

HOST, PORT = "127.21.9.1", 2322


def now() -> datetime:
    return datetime.now(UTC)


async def make_vault(folder: Path) -> Vault:
    await asyncio.to_thread(folder.mkdir)
    keys = headers.new_keys(secrets.token_hex(16), 1, CLASSIC, secrets.token_bytes)
    return await opened_store.create(FolderStore(folder), keys, sweeper="0" * 32, slots=[], now=now)


class Taker:
    """Takes one backup after another of one server, each with a new connection, as a service
    does.
    """

    last: Taken | None

    def __init__(
        self, server: LinuxServer, vault: Vault, key: str, carvers: Carvers, readings: Evaluators
    ) -> None:
        text = files("fennox").joinpath("kinds/linux-server.toml").read_text()
        kind = load(text)
        kind_file = KindFile(name=kind.name, version=kind.version, text=text)
        reached = Reached(address=f"{HOST}:{PORT}", account="root", key=server.host_key)
        self.subject = Subject(
            "5" * 32, "web-9", "web-9-55555555", kind, kind_file, {}, "", reached
        )
        self.vault, self.index, self.login = vault, PackIndex(), Credential("root", private_key=key)
        self.carvers, self.readings, self.last = carvers, readings, None

    async def take(self, *, trust: bool = False) -> Taken:
        last = self.last
        previous = Previous(backup=last.reference.backup, digest=last.digest) if last else None
        order = TakeRequest(
            secrets.token_hex(16),
            secrets.token_hex(16),
            1,
            stamp(now()),
            last.reference.sequence + 1 if last else 1,
            previous,
            trust=trust,
        )
        link = await ssh.connect(Address(HOST, PORT), self.login, self.subject.reached.key)
        try:
            tools = TakeTools(self.vault, self.index, MemoryJournal(), self.readings, self.carvers)
            self.last = await take(tools, link, self.subject, order, any_machine=True)
        finally:
            await link.close()
        return self.last


spent: list[
    float
] = []  # seconds in which a take looked at the packs it relies on, and read back what it wrote
_confirm = BackupWriter.confirm


async def timed_confirm(writer: BackupWriter) -> None:
    begun = time.monotonic()
    await _confirm(writer)
    spent.append(time.monotonic() - begun)


def by_hand(folder: Path, key: Path, recipient: str) -> float:
    """``ssh … tar | zstd -3 | age`` into a file."""
    remote = (
        f"ssh -q -i {key} -p {PORT} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null"
        f" root@{HOST}"
    )
    pipe = f"{remote} tar -c -C / etc | zstd -q -3 -T2 | age -r {recipient} -o {folder}/by-hand.age"
    os.sync()  # here and below: nobody waits for what another has written
    begun = time.monotonic()
    subprocess.run(["sh", "-c", pipe], check=True, stderr=subprocess.DEVNULL)
    return time.monotonic() - begun


def fill(server: LinuxServer, count: int, size: int) -> None:
    """``count`` files of ``size`` bytes of settings, half of them made up."""
    for number in range(count):
        lines = (
            f"setting-{number}-{line} = {secrets.token_hex(12)}\n" for line in range(size // 48)
        )
        server.write(f"/etc/saltmere/{number % 50:02}/{number:05}.conf", "".join(lines))


async def measure(count: int, size: int, rounds: int, folder: Path, recipient: str) -> None:
    private, public = new_key_pair("bench")
    key = folder / "key"
    key.write_text(private)
    key.chmod(0o600)
    server = LinuxServer(folder / "server", HOST, PORT)
    server.install("web-9", public)
    fill(server, count, size)
    server.start()
    carvers, readings = (
        Carvers(),
        Evaluators.of_readings(),
    )  # as a service has them: begun in the first round
    times: dict[str, list[float]] = {"pipe": [], "first": [], "unchanged": [], "trusting": []}
    confirming: dict[str, list[float]] = {name: [] for name in times}
    try:
        for number in range(rounds):
            times["pipe"].append(by_hand(folder, key, recipient))
            taker = Taker(
                server, await make_vault(folder / f"store-{number}"), private, carvers, readings
            )
            for name in ("first", "unchanged", "stamped", "trusting"):
                os.sync()
                begun = time.monotonic()
                taken = await taker.take(trust=name in ("stamped", "trusting"))
                if name in times:
                    times[name].append(time.monotonic() - begun)
                    confirming[name].append(spent.pop() / times[name][-1])
                spent.clear()
        sizes = taken.reference.sizes
        print(f"{sizes.documents} documents, {sizes.bytes / 1e6:.1f} MB, medians of {rounds}:")
        base = statistics.median(times["pipe"])
        for name, held in times.items():
            asked = (
                f"; {statistics.median(confirming[name]):.1%} of it confirms"
                if confirming[name]
                else ""
            )
            took = statistics.median(held)
            print(f"  {name:<10}{took:7.2f} s  {took / base:5.2f} of the pipe{asked}")
    finally:
        await carvers.close()
        await readings.close()
        server.stop()


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--rounds", type=int, default=5)
    rounds = parser.parse_args().rounds
    BackupWriter.confirm = timed_confirm  # type: ignore[assignment,method-assign]
    for tool in ("zstd", "age", "age-keygen", "ssh"):
        if shutil.which(tool) is None:
            sys.exit(f"{tool} is not installed, so there is nothing to compare with.")
    for count, size in ((40, 50_000), (5_000, 40_000)):
        with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
            made = subprocess.run(["age-keygen"], capture_output=True, text=True, check=True)
            recipient = made.stderr.split()[-1]
            asyncio.run(measure(count, size, rounds, Path(folder), recipient))


if __name__ == "__main__":
    main()
