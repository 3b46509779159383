"""Fennox against the pipe an administrator would write: ssh, tar, zstd, gpg. Prints ratios of one run, alternating.

python benchmarks/by_hand.py [--files 200] [--rounds 5]
"""

from __future__ import annotations

import argparse
import asyncio
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
from fennox.core.format.hpke import CLASSIC
from fennox.core.format.manifest import Reached
from fennox.core.format.records import Previous
from fennox.core.kinds.loading import load
from fennox.core.time import stamp
from fennox.engine import vault as vaults
from fennox.engine.index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.take import Order, Subject, Taken, take
from fennox.engine.vault import Vault
from fennox.links import ssh
from fennox.links.base import Address, Credential
from fennox.stores.folder import FolderStore
from saltmere.linux import LinuxServer, new_key_pair

HOST, PORT = "127.21.9.1", 2322


def now() -> datetime:
    return datetime.now(UTC)


async def make_vault(folder: Path) -> Vault:
    await asyncio.to_thread(folder.mkdir)
    keys = headers.new_keys(secrets.token_hex(16), 1, CLASSIC, secrets.token_bytes)
    return await vaults.create(FolderStore(folder), keys, sweeper="0" * 32, slots=[], now=now)


class Taker:
    """Takes one backup after another of one server, each with a new connection, as a service does."""

    def __init__(self, server: LinuxServer, vault: Vault, key: str) -> None:
        text = files("fennox").joinpath("kinds/linux-server.toml").read_text()
        reached = Reached(address=f"{HOST}:{PORT}", account="root", key=server.host_key)
        self.subject = Subject("5" * 32, "web-9", "web-9-55555555", load(text), text, {}, "", reached)
        self.vault, self.index, self.login = vault, PackIndex(), Credential("root", private_key=key)
        self.last: Taken | None = None

    async def take(self) -> Taken:
        last = self.last
        previous = Previous(backup=last.reference.backup, digest=last.digest) if last else None
        order = Order(secrets.token_hex(16), secrets.token_hex(16), 1, stamp(now()),
                      last.reference.sequence + 1 if last else 1, previous)  # fmt: skip
        link = await ssh.connect(Address(HOST, PORT), self.login, self.subject.reached.key)
        try:
            self.last = await take(self.vault, self.index, link, self.subject, order, MemoryJournal(), any_machine=True)
        finally:
            await link.close()
        return self.last


def by_hand(folder: Path, key: Path) -> float:
    """``ssh … tar | zstd -3 | gpg`` into a file."""
    remote = f"ssh -q -i {key} -p {PORT} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null root@{HOST}"
    seal = f"gpg --batch --yes --homedir {folder} --pinentry-mode loopback --passphrase made-up --compress-algo none"
    pipe = f"{remote} tar -c -C / etc | zstd -q -3 | {seal} --symmetric -o {folder}/by-hand.gpg"
    begun = time.monotonic()
    subprocess.run(["sh", "-c", pipe], check=True, stderr=subprocess.DEVNULL)
    return time.monotonic() - begun


async def measure(count: int, rounds: int, folder: Path) -> None:
    private, public = new_key_pair("bench")
    key = folder / "key"
    key.write_text(private)
    key.chmod(0o600)
    server = LinuxServer(folder / "server", HOST, PORT)
    server.install("web-9", public)
    server.configure("ticket", files=count)
    server.start()
    try:
        first: list[float] = []
        again: list[float] = []
        hand: list[float] = []
        for number in range(rounds):
            taker = Taker(server, await make_vault(folder / f"store-{number}"), private)
            for times in (first, again):
                begun = time.monotonic()
                taken = await taker.take()
                times.append(time.monotonic() - begun)
                if number == 0:
                    print(f"{taken.reference.sizes.documents} documents, {taken.reference.sizes.bytes} bytes: "
                          f"{taken.written.objects} objects, {taken.written.bytes} bytes written")  # fmt: skip
            hand.append(by_hand(folder, key))
        by_pipe = statistics.median(hand)
        print(f"pipe by hand            {by_pipe:.2f} s (median of {rounds})")
        print(f"first take / pipe       {statistics.median(first) / by_pipe:.2f}")
        print(f"unchanged take / pipe   {statistics.median(again) / by_pipe:.2f}")
    finally:
        server.stop()


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--files", type=int, default=200)
    parser.add_argument("--rounds", type=int, default=5)
    arguments = parser.parse_args()
    for program in ("ssh", "zstd", "gpg"):
        if shutil.which(program) is None:
            sys.exit(f"The program {program} is missing; without it there is nothing to compare with.")
    with tempfile.TemporaryDirectory() as made:
        asyncio.run(measure(arguments.files, arguments.rounds, Path(made)))
