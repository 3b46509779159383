"""OpenSSH on Windows, by a stand-in that reads commands as PowerShell does: quoted words in,
nothing interpreted.

No Windows machine was there to try it on.
"""

from __future__ import annotations

import base64
import re
from collections.abc import AsyncIterator
from pathlib import Path

import asyncssh
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import KindFile
from fennox.core.kind_files.loading import load
from fennox.core.restoring.sheet import Place
from fennox.engine.backups.vault import Vault
from fennox.links.base import Address, Credential, Link
from fennox.links.secure_shell import powershell, ssh
from saltmere.linux import new_key_pair
from tests.engine.keeper import Keeper
from tests.places import loopback

KIND = r"""
name = "berth-terminal"
version = 1
title = "Berth terminal on Windows"
reach = "ssh"
shell = "powershell"
port = 22

[identity.run]
machine = ["Get-ItemPropertyValue", "-Path", 'HKLM:\SOFTWARE\Microsoft\Cryptography',
           "-Name", "MachineGuid"]
system = ["Get-CimInstance", "Win32_OperatingSystem"]

[identity]
id = { in = "machine", regex = '([0-9a-f-]{36})' }
product = { in = "system", regex = '(Windows)' }
version = { in = "system", regex = 'Windows (\d+)' }

[[part]]
name = "settings"
title = "Settings of the terminal"
essential = true
[[part.source]]
files = ["/C:/ProgramData/Berth/*"]
[[part.source]]
document = "services.txt"
run = ["Get-Service", "it's a ‘name’; exit"]

[[restore.write]]
title = "Put back the settings"
do = "write"
parts = ["settings"]

[[restore.check]]
title = "The terminal answers"
do = "check"
run = ["Get-Service", "berth"]
expect = "Running"
"""
GUID = "1f0c9a52-0000-4000-8000-5a17e3e0f3a1"
_WORD = re.compile(r"'((?:[^'\u2018-\u201b]|(['\u2018-\u201b])\2)*)'|(-[A-Za-z]\w*)")


def as_powershell_reads(line: str) -> list[str]:
    """The words of the one command of a script that is given encoded."""
    encoded = line.removeprefix("powershell -NoProfile -NonInteractive -EncodedCommand ")
    assert re.fullmatch(r"[A-Za-z0-9+/=]+", encoded), "cmd.exe finds nothing in it to interpret"
    script = base64.b64decode(encoded).decode("utf-16-le")
    command = script.partition("; & ")[2].removesuffix("; exit $LASTEXITCODE")
    words, at = [], 0
    while at < len(command):
        found = _WORD.match(command, at)
        assert found, command[at:]
        words.append(found[3] or re.sub(r"(['\u2018-\u201b])\1", r"\1", found[1]))
        at = found.end() + 1
    return words


@given(st.lists(st.text(st.characters(exclude_categories=["Cs"])), min_size=1))
def test_words_arrive_as_they_are(words: list[str]) -> None:
    assert as_powershell_reads(powershell.in_powershell(words)) == words


class Terminal:
    """The stand-in: an SSH server with the drive C: below a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.said = folder, list[list[str]]()
        self.address = ""
        self.key = asyncssh.generate_private_key("ssh-ed25519")

    async def answer(self, process: asyncssh.SSHServerProcess[str]) -> None:
        words = as_powershell_reads(process.command or "")
        self.said.append(words)
        match words[0]:
            case "Get-ItemPropertyValue":
                process.stdout.write(f"{GUID}\r\n")
            case "Get-CimInstance":
                process.stdout.write("Windows 11\r\n")
            case "Get-Service":
                process.stdout.write("Running  berth\r\n")
            case _:
                process.stderr.write(f"The term '{words[0]}' is not recognized.\r\n")
                process.exit(1)
                return
        process.exit(0)


@pytest.fixture
async def terminal(tmp_path: Path, key_pair: tuple[str, str]) -> AsyncIterator[Terminal]:
    made = Terminal(tmp_path / "terminal")
    settings = made.folder / "C:/ProgramData/Berth"
    settings.mkdir(parents=True)
    (settings / "berth.ini").write_text("[berth]\r\nnumber = 4\r\n")
    server = await asyncssh.listen(
        host := loopback(),
        0,
        server_host_keys=[made.key],
        authorized_client_keys=asyncssh.import_authorized_keys(key_pair[1]),
        process_factory=made.answer,
        sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=os_path(made.folder)),
    )
    made.address = f"{host}:{server.get_port()}"
    yield made
    server.close()
    await server.wait_closed()


def os_path(folder: Path) -> bytes:
    return str(folder).encode()


@pytest.fixture
def key_pair() -> tuple[str, str]:
    return new_key_pair("quay-root")


class Speaking(Keeper):
    async def connect(self, place: Place, whose: object = "after") -> Link:
        host, port = place.address.rsplit(":", 1)
        return await ssh.connect(Address(host, int(port)), self.login, place.key)


async def test_a_terminal_is_taken_lost_and_put_back(
    vault: Vault, terminal: Terminal, key_pair: tuple[str, str]
) -> None:
    place = Place(
        address=terminal.address, account="keeper", key=terminal.key.get_fingerprint("sha256")
    )
    keeper = Speaking(
        vault, "linux-server", place, Credential("keeper", private_key=key_pair[0]), {}
    )
    keeper.kind = load(KIND)
    keeper.kind_file = KindFile(name="berth-terminal", version=1, text=KIND)
    taken = await keeper.take()
    assert (taken.head.machine.id, taken.reference.sizes.documents) == (GUID, 2)
    assert ["Get-Service", "it's a ‘name’; exit"] in terminal.said
    assert (await keeper.take()).nothing_new
    file = terminal.folder / "C:/ProgramData/Berth/berth.ini"
    file.unlink()
    sheet = await keeper.draft(taken, place, keeper.login)
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    assert file.read_bytes() == b"[berth]\r\nnumber = 4\r\n"


async def test_a_document_cannot_be_fed_to_powershell(
    terminal: Terminal, key_pair: tuple[str, str]
) -> None:
    async def feed() -> AsyncIterator[bytes]:
        yield b"x"

    host, port = terminal.address.rsplit(":", 1)
    login = Credential("keeper", private_key=key_pair[0])
    link = await ssh.connect(
        Address(host, int(port)), login, terminal.key.get_fingerprint("sha256")
    )
    link.language = "powershell"
    with pytest.raises(FarSideFailed, match="cannot be fed"):
        await link.run(["Get-Service"], feed=feed())
    await link.close()
