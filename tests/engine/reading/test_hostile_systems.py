"""A machine that is out to harm whoever reads it: the take ends with a finding or an error that
names it, in time.
"""

from __future__ import annotations

import resource
import socketserver
import threading
import time
from collections.abc import Callable, Iterator

import pytest

from fennox.core.errors import FarSideFailed, FennoxError
from fennox.core.kind_files.loading import load
from fennox.core.kinds.model import Kind
from fennox.engine.backups.vault import Vault
from fennox.links.base import Address, Credential
from fennox.links.secure_shell import ssh
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import Keeper, shipped_text
from tests.engine.story import place_of
from tests.places import free_port, loopback

HANG = 60  # seconds; what passes takes few
MEMORY = 300_000  # kilobytes that a take may add


@pytest.fixture
def server(install: Callable[..., LinuxServer]) -> LinuxServer:
    made = install("web-9")
    made.configure("ticket", files=2)
    return made


@pytest.fixture
def keeper(vault: Vault, server: LinuxServer, key_pair: tuple[str, str]) -> Keeper:
    login = Credential("root", private_key=key_pair[0])
    return Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})


@pytest.fixture(autouse=True)
def _in_time_and_in_bounds() -> Iterator[None]:
    began, held = time.monotonic(), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    yield
    assert time.monotonic() - began < HANG
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - held < MEMORY


def kind_that(more: str) -> Kind:
    """A Linux server and one part more."""
    head = 'name = "odd"\nversion = 1\ntitle = "Odd"\nincludes = ["linux-server"]\n'
    return load(f'{head}\n[[part]]\nname = "odd"\ntitle = "Odd"\n{more}', shipped_text)


async def test_a_command_that_writes_for_ever_is_ended_at_its_ceiling(keeper: Keeper) -> None:
    keeper.kind = kind_that(
        '[[part.source]]\nrun = ["yes"]\ndocument = "endless.txt"\nceiling = 5000000\n'
    )
    with pytest.raises(FarSideFailed, match=r"endless\.txt has more than 5000000 bytes"):
        await keeper.take(parts=["odd"])
    assert await keeper.vault.record_names() == []


async def test_a_listing_without_end_is_refused(keeper: Keeper) -> None:
    keeper.kind = kind_that(
        '[[part.source]]\neach = ["seq", "20000"]\nrun = ["echo", "{each}"]\ndocument ='
        ' "many/{each}.txt"\n'
    )
    with pytest.raises(FarSideFailed, match="lists 20000 names"):
        await keeper.take(parts=["odd"])


async def test_a_sparse_file_of_ten_gigabytes_is_told_before_it_is_read(
    keeper: Keeper, server: LinuxServer
) -> None:
    with (server.folder / "etc/enormous").open("wb") as file:
        file.truncate(10 * 1024**3)
    with pytest.raises(FarSideFailed, match="/etc/enormous has more than"):
        await keeper.take(parts=["settings"])


async def test_links_in_a_circle_and_out_of_the_tree_are_links_and_not_followed(
    keeper: Keeper, server: LinuxServer
) -> None:
    folder = server.folder / "etc/odd"
    folder.mkdir()
    (folder / "self").symlink_to("self")
    (folder / "one").symlink_to("two")
    (folder / "two").symlink_to("one")
    (folder / "up").symlink_to("../../../..")
    (folder / "deep").symlink_to("/proc/self/root")
    taken = await keeper.take(parts=["settings"])
    reader = await keeper.reader(taken)
    found = {
        d.path: d.link
        async for d in reader.documents(await reader.part("settings"))
        if "/etc/odd/" in d.path
    }
    assert found["/etc/odd/up"] == "../../../.."
    assert sorted(found) == [f"/etc/odd/{name}" for name in ("deep", "one", "self", "two", "up")]


@pytest.mark.parametrize(
    ("text", "expression"),
    [
        ("[" * 200_000, "jsonpath = '$..*'"),
        ('<!DOCTYPE x [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;&a;">]><x>&b;</x>', "xpath = '//x'"),
        ('<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/shadow">]><x>sea&a;</x>', "xpath = '//x'"),
        ("<x>" * 100_000, "xpath = '//x'"),
        ('"' + "x" * 300_000, "csv = { column = 1 }"),
        ("\x00\x1b[2J\x07" * 1000, "regex = '(.+)'"),
    ],
    ids=["deep json", "entities", "file entity", "deep xml", "one quote", "control characters"],
)
async def test_a_document_made_to_harm_its_reader_is_counted_or_complained_of(
    keeper: Keeper, server: LinuxServer, text: str, expression: str
) -> None:
    server.write("/etc/odd.bin", text)
    keeper.kind = kind_that(
        '[[part.source]]\nfiles = ["/etc/odd.bin"]\n\n[census]\nodd = [{ in = "/etc/odd.bin", '
        + expression
        + " }]\n"
    )
    taken = await keeper.take(parts=["odd"])
    said = " ".join(finding.text for finding in taken.head.findings) + " ".join(
        taken.head.census["odd"]
    )
    assert "root:" not in said, "nothing of this machine or that one is drawn in by an entity"
    assert taken.head.census["odd"] or any(
        f.code == "unreadable-document" for f in taken.head.findings
    )


class _Banner(socketserver.BaseRequestHandler):
    """Lines before the SSH greeting, without end."""

    def handle(self) -> None:
        try:
            while True:
                self.request.sendall(b"welcome, welcome\r\n" * 4096)
        except OSError:
            return


async def test_a_greeting_without_end_is_no_greeting(key_pair: tuple[str, str]) -> None:
    host = loopback()
    with socketserver.ThreadingTCPServer((host, free_port(host)), _Banner) as server:
        server.daemon_threads = True
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        try:
            with pytest.raises(FennoxError):
                await ssh.connect(
                    Address(host, server.server_address[1]),
                    Credential("root", private_key=key_pair[0]),
                    "SHA256:x",
                )
        finally:
            server.shutdown()
