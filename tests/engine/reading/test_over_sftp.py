"""Machines without GNU tar: their files are read and put back over SFTP, and are the same
documents.
"""

from __future__ import annotations

import os
from collections.abc import AsyncGenerator, Callable
from dataclasses import replace

import pytest

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import Document
from fennox.engine.backups.vault import Vault
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential
from fennox.links.secure_shell.sftp import SftpFiles
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_linux_server import Install, place_of

OTHER_TAR = (
    '#!/bin/sh\n[ "$1" = --version ] && echo "bsdtar 3.7.7 - libarchive 3.7.7" && exit\nexit 1\n'
)


def without_gnu_tar(server: LinuxServer) -> LinuxServer:
    server.write("/local/bin/tar", OTHER_TAR, mode=0o755)
    return server


@pytest.fixture
def server(install: Install) -> LinuxServer:
    server = install("web-9")
    server.configure("ticket", files=8)
    server.write("/etc/saltmere/odd ' name\n$x", "x\n", mode=0o4640)
    server.write("/etc/saltmere/long.conf", "y" * 700_000)
    (server.folder / "etc/saltmere/none").symlink_to("../nowhere")
    with open(os.fsencode(server.folder) + b"/etc/saltmere/caf\xe9", "w") as file:
        file.write("not UTF-8\n")
    os.mkfifo(server.folder / "etc/saltmere/pipe")
    return server


@pytest.fixture
def keeper(vault: Vault, server: LinuxServer, key_pair: tuple[str, str]) -> Keeper:
    login = Credential("root", private_key=key_pair[0])
    return Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})


async def held(keeper: Keeper, taken: Taken) -> dict[str, Document]:
    reader = await keeper.reader(taken)
    unnamed = {"owner": None, "group": None}  # SFTP tells numbers only
    return {
        document.path: document.model_copy(update=unnamed)
        for part in (await reader.head()).parts
        async for document in reader.documents(part)
    }


async def test_what_is_read_is_what_tar_reads(keeper: Keeper, server: LinuxServer) -> None:
    by_tar = await keeper.take()
    without_gnu_tar(server)
    by_sftp = await keeper.take()
    assert await held(keeper, by_sftp) == await held(keeper, by_tar)
    assert by_sftp.nothing_new
    assert by_sftp.head.census == by_tar.head.census
    assert "/etc/saltmere/pipe" in by_sftp.head.left_out
    assert by_sftp.head.findings == by_tar.head.findings


async def test_it_is_put_back_onto_a_fresh_machine_and_proved(
    keeper: Keeper, server: LinuxServer, install: Install
) -> None:
    without_gnu_tar(server)
    taken = await keeper.take()
    server.lose()
    fresh = without_gnu_tar(install("debian"))
    fresh.configure_packages("ticket")
    (fresh.folder / "etc/saltmere").mkdir()
    (fresh.folder / "etc/saltmere/none").symlink_to("/elsewhere")
    sheet = await keeper.draft(taken, place_of(fresh), keeper.login)
    assert sheet.blockers() == []
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    restored = fresh.folder / "etc/saltmere"
    assert os.readlink(restored / "none") == "../nowhere"
    assert (restored / "odd ' name\n$x").stat().st_mode & 0o7777 == 0o4640
    assert not [name for name in os.listdir(restored) if ".fennox-" in name], (
        "nothing is left beside the files"
    )


@pytest.mark.parametrize("times", [1, 2])
async def test_a_file_that_changes_while_it_is_read_is_read_again_and_then_marked(
    keeper: Keeper, server: LinuxServer, monkeypatch: pytest.MonkeyPatch, times: int
) -> None:
    without_gnu_tar(server)
    read = SftpFiles.read
    changes: list[str] = []

    async def changing(self: SftpFiles, path: bytes) -> AsyncGenerator[bytes, None]:
        async for block in read(self, path):
            yield block
        if path.endswith(b"000.conf") and len(changes) < times:
            changes.append("x")
            server.append("/etc/saltmere/ticket/000.conf", "# changed\n")

    monkeypatch.setattr(SftpFiles, "read", changing)
    taken = await keeper.take()
    document = (await held(keeper, taken))["/etc/saltmere/ticket/000.conf"]
    assert document.size == len(server.read("/etc/saltmere/ticket/000.conf")) - 10 * (times - 1)
    assert bool(document.moved) == (times == 2)
    told = [finding for finding in taken.head.findings if finding.code == "moved-while-read"]
    assert len(told) == times - 1


def no_sftp(server: LinuxServer) -> None:
    settings = server.read("/etc/ssh/sshd_config")
    server.write("/etc/ssh/sshd_config", settings.replace("Subsystem", "#Subsystem"))
    server.stop()
    server.start()


@pytest.mark.parametrize(
    ("harm", "why"),
    [
        (no_sftp, "no GNU tar and no SFTP"),
        (lambda server: server.write("/etc/saltmere/many/x", ""), "more than 3 entries"),
    ],
)
async def test_what_cannot_be_read_is_told(
    keeper: Keeper,
    server: LinuxServer,
    monkeypatch: pytest.MonkeyPatch,
    harm: Callable[[LinuxServer], None],
    why: str,
) -> None:
    without_gnu_tar(server)
    harm(server)
    monkeypatch.setattr("fennox.links.secure_shell.sftp._MOST", 3)
    with pytest.raises(FarSideFailed, match=why):
        await keeper.take()


async def test_another_account_is_not_become_over_sftp(keeper: Keeper, server: LinuxServer) -> None:
    sudo = '#!/bin/sh\nwhile [ "$1" != -- ]; do shift; done\nshift\nexec "$@"\n'
    server.write("/local/bin/sudo", sudo, mode=0o755)
    without_gnu_tar(server)
    keeper.login = replace(keeper.login, become="root")
    with pytest.raises(FarSideFailed, match="SFTP cannot become another account"):
        await keeper.take()
