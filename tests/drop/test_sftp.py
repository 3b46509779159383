"""What clients of every sort do to the SFTP server, judged by what lies in the spool."""

from __future__ import annotations

import asyncio
import os
import subprocess
import time
from hashlib import sha256
from pathlib import Path
from typing import Any

import asyncssh
import pytest

from fennox.drop.logins import Pace
from fennox.drop.spool import Limits
from saltmere.linux import new_key_pair
from tests.drop.conftest import SECRET, Served
from tests.service.running import until

CONTENT = os.urandom(700_000)


def held(served: Served, system: str = "system-1") -> dict[str, bytes]:
    jail = served.spool.jail(system)
    return {note.name: b"".join(jail.content(note)) for note in jail.notes()}


async def put(sftp: Any, name: str, content: bytes) -> None:
    async with sftp.open(name, "wb") as file:
        await file.write(content)


async def test_what_is_pushed_is_sealed_on_the_disk_and_read_back_whole(served: Served) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        await put(sftp, "nightly/settings.bin", CONTENT)
        await served.arrived()
    assert held(served) == {"/nightly/settings.bin": CONTENT}
    [note] = served.spool.jail("system-1").notes()
    assert not note.in_clear
    on_disk = b"".join(path.read_bytes() for path in served.spool.root.rglob("*") if path.is_file())
    assert CONTENT[:64] not in on_disk
    modes = {path.stat().st_mode & 0o077 for path in served.spool.root.rglob("*")}
    assert (served.spool.root.stat().st_mode & 0o077, modes >= {0}) == (0, True)


async def test_openssh_pushes_lists_and_renames(served: Served, tmp_path: Path) -> None:
    private, public = new_key_pair("orlop-1")
    key = tmp_path / "key"
    key.write_text(private)
    key.chmod(0o600)
    login = served.doorkeeper.login("orlop-1")
    assert login is not None
    served.doorkeeper.replace(
        [type(login)(login.account, login.system, login.secret, (public.strip(),))]
    )
    file = tmp_path / "export.part"
    file.write_bytes(CONTENT)
    batch = f"put {file}\nrename export.part export.bin\nls -l\nchmod 600 export.bin\n"
    words = ["sftp", "-q", "-P", str(served.port), "-i", str(key), "-b", "-"]
    words += ["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"]
    done = await asyncio.to_thread(
        subprocess.run,
        [*words, f"orlop-1@{served.host}"],
        input=batch,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert "export.bin" in done.stdout
    assert held(served) == {"/export.bin": CONTENT}


async def test_a_write_that_stops_half_way_is_broken_and_can_be_gone_on_with(
    served: Served,
) -> None:
    async with served.connect() as client:
        sftp = await client.start_sftp_client()
        file = await sftp.open("export.bin", "wb")
        await file.write(CONTENT[:400_000])
        client.abort()
    jail = served.spool.jail("system-1")
    await asyncio.to_thread(until, lambda: jail.notes()[0].state != "arriving", "it has ended", 20)
    [note] = jail.notes()
    assert note.state == "broken"
    assert "before the file was closed" in note.problem
    async with served.connect() as client, client.start_sftp_client() as sftp:
        size = (await sftp.stat("export.bin")).size
        async with sftp.open("export.bin", "r+b") as file:
            await file.write(CONTENT[size:], size)
        await served.arrived()
    assert held(served) == {"/export.bin": CONTENT}
    assert not served.spool.jail("system-1").notes()[0].in_clear


async def test_a_file_written_in_any_order_lies_in_clear_until_it_is_taken(served: Served) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        async with sftp.open("export.bin", "wb") as file:
            await file.write(CONTENT[500_000:], 500_000)
            await file.write(CONTENT[:500_000], 0)
        await served.arrived()
    assert held(served) == {"/export.bin": CONTENT}
    [note] = served.spool.jail("system-1").notes()
    assert note.in_clear
    assert note.digest


async def test_nothing_that_has_arrived_is_written_read_or_deleted(served: Served) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        await put(sftp, "export.bin", CONTENT)
        await served.arrived()
        with pytest.raises(asyncssh.SFTPFailure, match="never overwritten"):
            await put(sftp, "export.bin", b"other")
        with pytest.raises(asyncssh.SFTPFailure, match="never overwritten"):
            await sftp.open("export.bin", "ab")
        with pytest.raises(asyncssh.SFTPPermissionDenied):
            await sftp.open("export.bin", "rb")
        with pytest.raises(asyncssh.SFTPPermissionDenied):
            await sftp.remove("export.bin")
        for act in (sftp.symlink("/etc/passwd", "x"), sftp.rmdir("/"), sftp.readlink("x")):
            with pytest.raises(asyncssh.SFTPError):
                await act
    assert held(served) == {"/export.bin": CONTENT}


@pytest.mark.parametrize(
    "name", ["../../../etc/cron.d/x", "/etc/passwd", "a/../../b", "./../system-2/x"]
)
async def test_no_name_leads_out_of_the_jail(served: Served, name: str) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        await put(sftp, name, b"content")
        await served.arrived()
    assert served.spool.systems() == ["system-1"]
    [folder] = served.spool.root.iterdir()
    assert {path.suffix for path in folder.iterdir()} == {".json", ".data"}


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("/", "needs a name"),
        ("x" * 256, "too long"),
        ("/".join("abcdefghijklmn"), "folders deep"),
        ("a\nb", "printable"),
    ],
)
async def test_a_name_that_cannot_be_is_refused(served: Served, name: str, said: str) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        with pytest.raises(asyncssh.SFTPError, match=said):
            await put(sftp, name, b"content")
    assert served.spool.systems() == []


async def test_two_systems_see_nothing_of_each_other(served: Served) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        await put(sftp, "mine.bin", b"content")
        await served.arrived()
    async with served.connect("orlop-2", "another") as client, client.start_sftp_client() as sftp:
        assert set(await sftp.listdir("/")) == {".", ".."}
        await put(sftp, "mine.bin", b"other")
        await served.arrived("system-2")
    assert held(served) == {"/mine.bin": b"content"}
    assert held(served, "system-2") == {"/mine.bin": b"other"}


async def test_a_hundred_files_at_once_arrive_whole(served: Served) -> None:
    wanted = {f"/{number:03}.bin": os.urandom(20_000) for number in range(100)}
    async with served.connect() as client, client.start_sftp_client() as sftp:
        await asyncio.gather(*(put(sftp, name, content) for name, content in wanted.items()))
        await served.arrived(count=100)
    assert {name: sha256(content).digest() for name, content in held(served).items()} == {
        name: sha256(content).digest() for name, content in wanted.items()
    }


async def test_more_than_its_share_is_refused_and_harms_nobody(served: Served) -> None:
    served.spool.limits = Limits(file=1_000_000, bytes=1_500_000, files=3, free=0)
    async with served.connect() as client, client.start_sftp_client() as sftp:
        with pytest.raises(asyncssh.SFTPFailure, match="1000000 bytes"):
            await put(sftp, "large.bin", os.urandom(1_200_000))
        await put(sftp, "1.bin", CONTENT)
        await served.arrived()
        await put(sftp, "2.bin", CONTENT)
        await served.arrived(count=2)
        with pytest.raises(asyncssh.SFTPFailure, match=r"no more are accepted|share"):
            await put(sftp, "3.bin", b"more")
    async with served.connect("orlop-2", "another") as client, client.start_sftp_client() as sftp:
        await put(sftp, "mine.bin", b"content")
        await served.arrived("system-2")


async def test_folders_without_end_are_not_remembered(served: Served) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        for number in range(999):
            await sftp.mkdir(f"folder-{number}")
        with pytest.raises(asyncssh.SFTPFailure, match="No more folders"):
            await sftp.mkdir("one-more")
        with pytest.raises(asyncssh.SFTPFailure, match="too long"):
            await sftp.mkdir("x" * 300)
        await put(sftp, "folder-7/settings.bin", b"content")
        await served.arrived()


async def test_a_full_disk_is_said_and_leaves_what_has_arrived(served: Served) -> None:
    async with served.connect() as client, client.start_sftp_client() as sftp:
        await put(sftp, "before.bin", CONTENT)
        await served.arrived()
        served.spool.limits = Limits(free=1 << 60)
        with pytest.raises(asyncssh.SFTPFailure, match="disk is full"):
            await put(sftp, "after.bin", CONTENT)
    assert held(served) == {"/before.bin": CONTENT}


async def test_there_is_no_shell_and_no_way_through(served: Served) -> None:
    async with served.connect() as client:
        with pytest.raises(asyncssh.ChannelOpenError):
            await client.run("id")
        with pytest.raises(asyncssh.ChannelOpenError):
            await client.open_connection("127.0.0.1", 22)
        listener = None
        with pytest.raises(asyncssh.ChannelListenError):
            listener = await client.forward_remote_port("127.0.0.1", 0, "127.0.0.1", 22)
        assert listener is None


async def test_who_guesses_is_soon_refused_unheard(served: Served) -> None:
    for _ in range(10):
        with pytest.raises(asyncssh.PermissionDenied):
            await served.connect(secret="a guess")
    with pytest.raises((asyncssh.ConnectionLost, asyncssh.PermissionDenied, OSError)):
        await served.connect(secret=SECRET)


async def test_a_login_that_was_revoked_lets_nobody_in(served: Served) -> None:
    served.doorkeeper.replace([])
    with pytest.raises(asyncssh.PermissionDenied):
        await served.connect()


async def test_a_system_pushes_no_faster_than_it_may_over_all_its_connections(
    served: Served,
) -> None:
    served.pace.rate = len(CONTENT)

    async def push(name: str) -> None:
        async with served.connect() as client, client.start_sftp_client() as sftp:
            await put(sftp, name, CONTENT)

    begun = time.monotonic()
    await asyncio.gather(push("one.bin"), push("two.bin"))
    assert time.monotonic() - begun > 0.9  # the first second's worth goes at once
    await served.arrived(count=2)
    assert held(served) == {"/one.bin": CONTENT, "/two.bin": CONTENT}


def test_a_system_that_waits_makes_no_other_one_wait() -> None:
    now = [100.0]
    pace = Pace(rate=1000, clock=lambda: now[0])
    assert pace.pause_after("orlop", 1000) == 0
    assert pace.pause_after("orlop", 500) == pytest.approx(0.5)
    assert pace.pause_after("gullery", 1000) == 0
    now[0] += 0.5
    assert pace.pause_after("orlop", 100) == pytest.approx(0.1)
    now[0] += 3600
    assert pace.pause_after("orlop", 1000) == 0, "what it did not use is not saved up"
    assert pace.pause_after("orlop", 1000) == pytest.approx(1)
