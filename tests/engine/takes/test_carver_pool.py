"""What other processes cut and seal is stored as what is cut here, whatever becomes of the
processes.
"""

from __future__ import annotations

import asyncio
import os
import secrets
import signal
import subprocess
import sys
from collections.abc import AsyncIterator, Callable, Sequence
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.format import chunks
from fennox.core.format.carving import Carved, Recipe, carve
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.secret import WriteSecret
from fennox.engine.backups.vault import Vault
from fennox.engine.processes import carver_pool
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.takes import document_intake
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.backups import read_back
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_linux_server import place_of
from tests.service.running import until

SECRET = WriteSecret(b"w" * 32, "0" * 32, 1)
SIZES = (64, 256, 1024)
RECIPE = Recipe(SECRET.chunk_id_key, SECRET.chunk_key_key, SIZES, seal=True)


@given(st.lists(st.binary(max_size=5000), max_size=4), st.booleans())
def test_what_is_carved_is_what_is_cut_and_named_one_by_one(
    contents: list[bytes], seal: bool
) -> None:
    found = carve(contents, RECIPE._replace(seal=seal), secrets.token_bytes)
    for content, carved in zip(contents, found, strict=True):
        named = [chunks.identify(plain, SECRET) for plain in chunks.cut(content, SIZES)]
        assert [(cut.id, cut.key, cut.length) for cut in carved.cuts] == [
            (p.id, p.key, len(p.plain)) for p in named
        ]
        assert carved.digest == blake2b_256(content)
        if seal:
            opened = [
                chunks.open_chunk(c.sealed or b"", c.id, c.key, c.length) for c in carved.cuts
            ]
            assert b"".join(opened) == content
        else:
            assert {cut.sealed for cut in carved.cuts} <= {None}


class Watched(Carvers):
    """Carvers that remember what they were given."""

    def __init__(self) -> None:
        super().__init__(2)
        self.given: list[tuple[bytes, bool]] = []
        self.begun: list[carver_pool.Carver] = []
        self.meanwhile: Callable[[], None] = lambda: None

    async def carve(self, contents: Sequence[bytes], recipe: Recipe) -> list[Carved]:
        self.given += [(content, recipe.seal) for content in contents]
        asked = asyncio.create_task(super().carve(contents, recipe))
        await asyncio.sleep(0)
        self.meanwhile()
        return await asked

    async def _begun(self) -> list[carver_pool.Carver]:
        held = await super()._begun()
        self.begun += [carver for carver in held if carver not in self.begun]
        return held

    def processes(self) -> list[int]:
        return [carver.process.pid for carver in self._held]


@pytest.fixture
async def carvers(monkeypatch: pytest.MonkeyPatch) -> AsyncIterator[Watched]:
    monkeypatch.setattr(document_intake, "_LONG", 20_000)
    monkeypatch.setattr(document_intake, "_HANDFUL", 50_000)
    made = Watched()
    yield made
    await made.close()


@pytest.fixture
def server(install: Callable[[str], LinuxServer]) -> LinuxServer:
    server = install("web-9")
    for number in range(60):
        server.write(f"/etc/ferry/page-{number}", f"page {number}\n" * 1000)
    server.write("/etc/ferry/same-as-7", "page 7\n" * 1000)
    server.write("/etc/ferry/timetable.bin", "times\n" * 50_000)
    return server


@pytest.fixture
def keeper(
    vault: Vault, server: LinuxServer, key_pair: tuple[str, str], carvers: Watched
) -> Keeper:
    login = Credential("root", private_key=key_pair[0])
    return Keeper(
        vault,
        "linux-server",
        place_of(server),
        login,
        {"ssh-restart": SSH_RESTART},
        carvers=carvers,
    )


async def test_a_take_stores_the_same_with_other_processes_and_without(
    keeper: Keeper, carvers: Watched
) -> None:
    first = await keeper.take()
    held = await read_back(keeper.vault, first.reference.backup)
    assert held["/etc/ferry/page-59"] == b"page 59\n" * 1000
    assert held["/etc/ferry/same-as-7"] == held["/etc/ferry/page-7"]
    assert held["/etc/ferry/timetable.bin"] == b"times\n" * 50_000
    assert len(carvers.given) > 50
    assert {seal for _, seal in carvers.given} == {True}

    carvers.given.clear()
    second = await keeper.take()
    assert second.nothing_new
    assert len(carvers.given) > 50
    assert {seal for _, seal in carvers.given} == {False}

    keeper.carvers = None
    third = await keeper.take()
    assert third.nothing_new
    assert first.documents == second.documents == third.documents


async def test_what_is_new_among_much_that_is_known_is_sealed_here(
    keeper: Keeper, server: LinuxServer
) -> None:
    await keeper.take()
    server.write("/etc/ferry/page-33", "another page\n" * 1000)
    taken = await keeper.take()
    assert taken.written.content == 1
    held = await read_back(keeper.vault, taken.reference.backup)
    assert held["/etc/ferry/page-33"] == b"another page\n" * 1000


async def test_secrets_that_nobody_may_guess_stay_here(
    keeper: Keeper, server: LinuxServer, carvers: Watched
) -> None:
    key = (server.folder / "etc/ssh/ssh_host_ed25519_key").read_bytes()
    await keeper.take()
    assert key in [content for content, _ in carvers.given]
    carvers.given.clear()
    taken = await keeper.take(apart=True)
    assert carvers.given
    assert key not in [content for content, _ in carvers.given]
    assert (await read_back(keeper.vault, taken.reference.backup))[
        "/etc/ssh/ssh_host_ed25519_key"
    ] == key


async def test_a_process_that_is_killed_costs_time_and_nothing_else(
    keeper: Keeper, carvers: Watched
) -> None:
    killed: list[int] = []

    def kill_one() -> None:
        if not killed and carvers.processes():
            killed.append(carvers.processes()[0])
            os.kill(killed[0], signal.SIGKILL)

    carvers.meanwhile = kill_one
    taken = await keeper.take()
    assert killed
    assert carvers.processes() == []  # none is begun again for a while
    held = await read_back(keeper.vault, taken.reference.backup)
    assert all(held[f"/etc/ferry/page-{n}"] == f"page {n}\n".encode() * 1000 for n in range(60))


async def test_where_no_process_can_be_begun_it_is_done_here(
    keeper: Keeper, carvers: Watched, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sys, "executable", "/nowhere/python")
    taken = await keeper.take()
    assert len(carvers.given) > 50
    assert len(await read_back(keeper.vault, taken.reference.backup)) > 60


async def test_a_stopped_run_leaves_the_next_its_answers(carvers: Watched) -> None:
    contents = [secrets.token_bytes(300_000) for _ in range(8)]
    stopped = [
        asyncio.create_task(Carvers.carve(carvers, [content], RECIPE)) for content in contents
    ]
    [first, *_] = stopped
    await first
    for task in stopped:
        task.cancel()
    found = await asyncio.gather(
        *(Carvers.carve(carvers, [content], RECIPE) for content in contents)
    )
    assert [carved.digest for [carved] in found] == [blake2b_256(content) for content in contents]


async def test_processes_that_nobody_asks_end_and_begin_again(
    carvers: Watched, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(carver_pool, "_IDLE", 0)
    for number in range(3):
        [carved] = await Carvers.carve(carvers, [b"buoy"], RECIPE)
        assert carved.digest == blake2b_256(b"buoy")
        await asyncio.gather(*(carver.ended() for carver in carvers.begun))
        assert carvers.processes() == []
        assert len(carvers.begun) == 2 * (number + 1)


async def test_one_that_is_paused_keeps_nobody_from_ending(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(carver_pool, "_PATIENCE", 0.1)
    carvers = Watched()
    await Carvers.carve(carvers, [b"buoy"], RECIPE)
    paused = carvers.processes()
    for process in paused:
        os.kill(process, signal.SIGSTOP)
    await carvers.close()
    assert not any(map(lives, paused))


def test_they_end_with_whoever_began_them() -> None:
    program = (
        "import asyncio, os\n"
        "from fennox.engine.processes.carver_pool import Carvers\n"
        "from tests.engine.takes.test_carver_pool import RECIPE\n"
        "async def main():\n"
        "    carvers = Carvers(2)\n"
        "    await carvers.carve([b'buoy'], RECIPE)\n"
        "    print(*[held.process.pid for held in carvers._held], flush=True)\n"
        "    await asyncio.sleep(600)\n"
        "asyncio.run(main())\n"
    )
    with subprocess.Popen(
        [sys.executable, "-c", program], stdout=subprocess.PIPE, text=True
    ) as parent:
        assert parent.stdout is not None
        pids = [int(word) for word in parent.stdout.readline().split()]
        assert len(pids) == 2
        parent.kill()
    until(lambda: not any(map(lives, pids)), "both have ended")


def lives(pid: int) -> bool:
    """A process that has ended may wait for whoever collects it."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    except (FileNotFoundError, ProcessLookupError):
        return False
