"""Files with the inode, size and times they had are not read again, and what changed is never
missed.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import AbstractAsyncContextManager
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from fennox.core.format.manifest import KindFile
from fennox.core.kind_files.loading import load, whole
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.reading import file_survey
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential, Running
from fennox.links.secure_shell.ssh import SshLink
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.backups import read_back
from tests.engine.keeper import Keeper, shipped_text
from tests.engine.restoring.test_linux_server import place_of

Install = Callable[..., LinuxServer]
BLOB = "/etc/ferry/timetable.bin"


@pytest.fixture
def server(install: Install) -> LinuxServer:
    server = install("web-9")
    for number in range(12):
        server.write(f"/etc/ferry/page-{number}", f"page {number}\n" * 400)
    server.write(BLOB, "old times\n" * 9000)
    server.write("/etc/ferry/with space and \t tab", "x\n")
    return server


@pytest.fixture
def keeper(
    vault: Vault, server: LinuxServer, key_pair: tuple[str, str], monkeypatch: pytest.MonkeyPatch
) -> Keeper:
    monkeypatch.setattr(
        file_survey, "_TOO_FRESH", -5
    )  # a test does not wait until its files are old
    login = Credential("root", private_key=key_pair[0])
    return Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})


def next_tick(server: LinuxServer, moment: int) -> None:
    """Until the file system tells another time: it has the grain of its clock's tick."""
    probe = server.folder / "tmp/probe"
    while True:
        probe.write_bytes(b"")
        if probe.stat().st_ctime_ns > moment:
            return


async def trusting_take(keeper: Keeper) -> tuple[Taken, int]:
    """A take as a routine makes it, and how many documents it took over."""
    journal = MemoryJournal()
    taken = await keeper.take(journal, trust=True)
    told = [text for _, text in journal.lines if "same inode" in text]
    return taken, int(told[0].split()[0]) if told else 0


async def content(keeper: Keeper, taken: Taken) -> dict[str, bytes]:
    return await read_back(keeper.vault, taken.reference.backup)


async def test_the_second_night_takes_over_what_has_not_moved(
    keeper: Keeper, server: LinuxServer
) -> None:
    first, over = await trusting_take(keeper)
    assert (over, first.reference.read_whole) == (0, first.reference.time)
    second, over = await trusting_take(keeper)
    assert over >= 14
    assert (second.nothing_new, second.written.objects) == (True, 1)
    assert second.reference.read_whole == first.reference.time
    assert await content(keeper, second) == await content(keeper, first)
    assert second.documents == first.documents


WAYS = ["longer", "same size and time", "replaced", "mode", "gone", "new"]


def change(server: LinuxServer, path: str, way: str) -> Path:
    """Change a file of 9,000 lines in one of these ways; gives where it lies."""
    file = server.folder / path.lstrip("/")
    status = file.stat()
    next_tick(server, status.st_ctime_ns)
    match way:
        case "longer":
            server.write(path, "new times\n" * 9001)
        case "same size and time":
            file.write_text("new times\n" * 9000)
            os.utime(file, ns=(status.st_atime_ns, status.st_mtime_ns))
        case "replaced":
            other = file.with_name("other")
            other.write_text("new times\n" * 9000)
            os.utime(other, ns=(status.st_atime_ns, status.st_mtime_ns))
            other.rename(file)
        case "mode":
            file.chmod(0o600)
        case "gone":
            file.unlink()
        case "new":
            server.write("/etc/ferry/new page", "new\n")
    return file


@pytest.mark.parametrize("way", WAYS)
async def test_whatever_changes_is_read(keeper: Keeper, server: LinuxServer, way: str) -> None:
    await trusting_take(keeper)
    file = change(server, BLOB, way)
    taken, over = await trusting_take(keeper)
    assert over >= 13
    held = await content(keeper, taken)
    if way == "gone":
        assert BLOB not in held
    else:
        assert held[BLOB] == file.read_bytes()
        assert ("/etc/ferry/new page" in held) == (way == "new")
    documents = {
        document.path: document
        for part in (await (await keeper.reader(taken)).head()).parts
        async for document in (await keeper.reader(taken)).documents(part)
    }
    if way == "mode":
        assert documents[BLOB].mode == 0o600


async def test_after_a_week_everything_is_read_again(keeper: Keeper) -> None:
    await trusting_take(keeper)
    keeper.clock += timedelta(days=6)
    _, over = await trusting_take(keeper)
    assert over >= 14
    keeper.clock += timedelta(days=2)
    taken, over = await trusting_take(keeper)
    assert (over, taken.reference.read_whole) == (0, taken.reference.time)


async def test_what_lies_in_a_damaged_pack_is_read_again(keeper: Keeper) -> None:
    first, _ = await trusting_take(keeper)
    for name in list(keeper.index.packs):
        keeper.index.mark_damaged(name, "a bit turned over")
    second, over = await trusting_take(keeper)
    assert over == 0
    assert second.written.content > 0
    fresh = PackIndex()
    await fresh.refresh(keeper.vault)
    assert await content(keeper, second) == await content(keeper, first)


async def test_a_machine_without_gnu_find_is_read_whole(
    keeper: Keeper, server: LinuxServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(file_survey, "_STAMPS", "; find: unrecognized: -printf >&2; exit 1")
    await trusting_take(keeper)
    second, over = await trusting_take(keeper)
    assert over == 0
    assert second.nothing_new


async def test_a_file_that_goes_between_the_look_and_the_reading_costs_one_whole_reading(
    keeper: Keeper, server: LinuxServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    await trusting_take(keeper)
    monkeypatch.setattr(
        file_survey,
        "_STAMPS",
        file_survey._STAMPS.replace("exec ", "") + "; echo -n 'f 1 1 1 1 /etc/ferry/ghost'",
    )
    taken, over = await trusting_take(keeper)
    assert over == 0
    assert BLOB in await content(keeper, taken)


class Counting:
    """A link that tells how often a machine's tar was begun."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.tars = 0
        stream = SshLink.stream

        def counted(
            link: SshLink, words: list[str], **more: Any
        ) -> AbstractAsyncContextManager[Running]:
            self.tars += words[0] == "tar"
            return stream(link, words, **more)

        monkeypatch.setattr(SshLink, "stream", counted)


async def test_one_tar_reads_all_parts(keeper: Keeper, monkeypatch: pytest.MonkeyPatch) -> None:
    counting = Counting(monkeypatch)
    first, _ = await trusting_take(keeper)
    assert counting.tars == 1
    by_hand = await keeper.take()
    assert counting.tars == 4, "of what was not seen before, each part leaves out something else"
    assert by_hand.documents == first.documents


async def test_a_file_of_two_parts_is_in_both(
    keeper: Keeper, server: LinuxServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    counting = Counting(monkeypatch)
    more = (
        '[[part]]\nname = "ferry"\ntitle = "The ferry"\n\n[[part.source]]\nfiles ='
        ' ["/etc/ferry/*"]\n\n[census]'
    )
    text = shipped_text("linux-server").replace("[census]", more, 1)
    keeper.kind = load(text, shipped_text)
    keeper.kind_file = KindFile(
        name="linux-server", version=keeper.kind.version, text=whole(text, shipped_text)
    )
    for tars in (2, 3):  # no tar gives a file twice; the second night reads none of both
        taken, _over = await trusting_take(keeper)
        assert BLOB in taken.documents["settings"]
        assert taken.documents["ferry"] == {
            path: told
            for path, told in taken.documents["settings"].items()
            if path.startswith("/etc/ferry/")
        }
        assert counting.tars == tars
    strange = os.fsencode(server.folder / "etc/ferry") + b"/caf\xe9"
    Path(os.fsdecode(strange)).write_bytes(b"no UTF-8\n")
    taken, _over = await trusting_take(keeper)
    assert (
        len([path for path in taken.documents["ferry"] if path.startswith("/etc/ferry/caf")]) == 1
    )
    assert (
        len([path for path in taken.documents["settings"] if path.startswith("/etc/ferry/caf")])
        == 1
    )
