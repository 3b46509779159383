"""What a kind does before a take is undone after it, however the take ends, against a real
server.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field

import pytest

from fennox.core.errors import BadInput, FarSideFailed, FennoxError, LeaseLost, Stopped
from fennox.core.kind_files.loading import load
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.takes.before_and_after import Surroundings
from fennox.engine.takes.take import take
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential, Link
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import Keeper, shipped_text
from tests.engine.restoring.test_linux_server import place_of

AROUND = """
name = "queue-server"
version = 1
title = "Linux server with a queue"
includes = ["linux-server"]

[[around]]
title = "Stop the queue"
before = {run = ["sh", "-c", "echo stop >> /srv/history; touch /etc/stopped"]}
after = {run = ["sh", "-c", "echo start >> /srv/history; rm -f /etc/stopped; test ! -e /etc/stuck"]}

[[around]]
title = "Open the side door"
parts = ["settings"]
before = {run = ["sh", "-c", "echo open >> /srv/history"]}
after = {run = ["sh", "-c", "echo close >> /srv/history"]}
"""


@dataclass
class Taking:
    """Takes as the service does; ``noted`` is what would outlive the process."""

    keeper: Keeper
    noted: list[str] = field(default_factory=list)
    journal: MemoryJournal = field(default_factory=MemoryJournal)
    links: list[Link] = field(default_factory=list)

    async def reach(self) -> Link:
        self.links.append(await self.keeper.connect(self.keeper.place))
        return self.links[-1]

    async def note(self, left: list[str]) -> None:
        self.noted = list(left)

    async def take(self, parts: list[str], inside: Callable[[], object] | None = None) -> Taken:
        link = await self.reach()
        around = Surroundings(
            self.keeper.kind,
            self.keeper.settings,
            link,
            self.reach,
            self.note,
            self.journal,
            list(self.noted),
        )
        try:
            async with around.held(parts):
                if inside is not None:
                    inside()
                return await take(
                    self.keeper.tools(self.journal),
                    link,
                    self.keeper.subject(),
                    self.keeper.order(parts=parts),
                    any_machine=True,
                )
        finally:
            await asyncio.gather(*(link.close() for link in self.links))


@pytest.fixture
def server(install: Callable[..., LinuxServer]) -> LinuxServer:
    return install("web-9")


@pytest.fixture
def taking(vault: Vault, server: LinuxServer, key_pair: tuple[str, str]) -> Taking:
    keeper = Keeper(
        vault,
        "linux-server",
        place_of(server),
        Credential("root", private_key=key_pair[0]),
        {"ssh-restart": SSH_RESTART},
    )
    keeper.kind = load(AROUND, shipped_text)
    return Taking(keeper)


async def test_it_is_done_before_and_undone_after_in_the_other_order(
    taking: Taking, server: LinuxServer
) -> None:
    taken = await taking.take(["settings"])
    assert server.read("/srv/history").split() == ["stop", "open", "close", "start"]
    assert "/etc/stopped" in taken.documents["settings"], "it was stopped while everything was read"
    assert (taking.noted, taking.journal.lines) == ([], [])
    await taking.take(["accounts"])
    assert server.read("/srv/history").split()[4:] == [
        "stop",
        "start",
    ], "the door is opened for settings alone"


@pytest.mark.parametrize("how", ["failed", "stopped"])
async def test_a_take_that_does_not_succeed_undoes_it_all_the_same(
    taking: Taking, server: LinuxServer, how: str
) -> None:
    def fail() -> None:
        if how == "failed":
            raise FarSideFailed("the disk is gone", "look")
        taking.journal.stop = True

    with pytest.raises(FarSideFailed if how == "failed" else Stopped):
        await taking.take(["settings"], fail)
    assert server.read("/srv/history").split() == ["stop", "open", "close", "start"]
    assert taking.noted == []


async def test_what_came_to_nothing_halfway_is_undone_too(
    taking: Taking, server: LinuxServer
) -> None:
    [queue, door] = taking.keeper.kind.around
    broken = door.model_copy(
        update={"before": door.before.model_copy(update={"run": ["sh", "-c", "exit 4"]})}
    )
    taking.keeper.kind = taking.keeper.kind.model_copy(update={"around": [queue, broken]})
    with pytest.raises(FarSideFailed, match="ended with 4"):
        await taking.take(["settings"])
    assert server.read("/srv/history").split() == ["stop", "close", "start"]


async def test_a_connection_that_breaks_is_made_anew_to_undo_it(
    taking: Taking, server: LinuxServer
) -> None:
    def cut() -> None:
        server.run("pkill", "-f", "sshd: root")

    with pytest.raises(FennoxError, match=r"\S"):
        await taking.take(["settings"], cut)
    assert server.read("/srv/history").split()[-2:] == ["close", "start"]
    assert (taking.noted, len(taking.links)) == ([], 3)


async def test_a_run_that_is_another_workers_leaves_it_to_that_one(
    taking: Taking, server: LinuxServer
) -> None:
    def lose() -> None:
        taking.journal.lost = True

    with pytest.raises(LeaseLost):
        await taking.take(["settings"], lose)
    assert server.read("/srv/history").split() == ["stop", "open"]
    assert taking.noted == ["Stop the queue", "Open the side door"]
    taking.journal.lost = False
    await taking.take(["settings"])
    assert server.read("/srv/history").split()[2:] == [
        "close",
        "start",
        "stop",
        "open",
        "close",
        "start",
    ]
    assert taking.noted == []
    [(level, text)] = taking.journal.lines
    assert level == "warning"
    assert "without undoing: Stop the queue, Open the side door" in text


async def test_what_cannot_be_undone_stays_noted_and_holds_up_the_next_take(
    taking: Taking, server: LinuxServer
) -> None:
    server.write("/etc/stuck", "")
    taken = await taking.take(["settings"])
    assert taken.reference.parts == ["settings"], "the backup is there all the same"
    assert taking.noted == ["Stop the queue"]
    assert "could not be undone" in taking.journal.lines[-1][1]
    with pytest.raises(FarSideFailed, match="cannot be undone: Stop the queue"):
        await taking.take(["settings"])
    (server.folder / "etc/stuck").unlink()
    await taking.take(["settings"])
    assert taking.noted == []


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (('parts = ["settings"]', 'parts = ["sails"]'), "there is no part 'sails'"),
        (("Open the side door", "Stop the queue"), "two tables around have the title"),
        (("before = {run =", 'before = {ask = {path = "/x"}, run ='), "either run or ask"),
    ],
)
def test_mistakes_are_told(change: tuple[str, str], told: str) -> None:
    with pytest.raises(BadInput, match=told):
        load(AROUND.replace(*change), shipped_text)
