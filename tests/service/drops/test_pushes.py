"""A system pushes, and what it pushed becomes its backup: whole, once, and nobody else's."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import socket
import time
from collections.abc import AsyncIterator, Awaitable, Iterator
from contextlib import asynccontextmanager, suppress
from hashlib import sha256
from itertools import count
from pathlib import Path

import asyncssh
import pytest

from fennox.client.api import Client, ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.drops import DropLoginMade, DropWanted, NewDropLogin
from fennox.wire.machines.enrolling import NewSystem, SystemChange
from fennox.wire.routines import NewRoutine
from fennox.wire.stores import NewStore
from tests.database import fresh_database
from tests.places import free_port, loopback
from tests.service.running import PASSPHRASE, Service, until

RECORDER = r"""
name = "tide-recorder"
version = 1
title = "Tide recorder"
reach = "push"
port = 22
rebuilt_by = "in its console: Maintenance, Load"

[identity]
id = { in = "about.json", jsonpath = "$.serial" }
product = { in = "about.json", jsonpath = "$.product" }
version = { in = "about.json", jsonpath = "$.version" }

[[part]]
name = "settings"
title = "Settings of the recorder"
essential = true
[[part.source]]
[part.source.push]
files = ["about.json", "*/*.cfg"]
every = 24
quiet = 1
fits = "tide|serial"
manifest = { file = "MANIFEST", names = '^[0-9a-f]{64}  (\S+)$', digests = '^([0-9a-f]{64})  ' }

[census]
gauges = [{ in = "gauges/*.cfg", names = '^gauges/(.+)\.cfg$' }]
"""
ABOUT = json.dumps({"serial": "TR-77", "product": "tide-recorder", "version": "4"}).encode()


def a_push(*gauges: str, depth: int = 4) -> dict[str, bytes]:
    files = {f"gauges/{name}.cfg": f"tide {name}\ndepth {depth}\n".encode() for name in gauges}
    files["about.json"] = ABOUT
    listed = "".join(f"{sha256(text).hexdigest()}  {name}\n" for name, text in files.items())
    return {**files, "MANIFEST": f"# of tonight\n{listed}".encode()}


def switched_on(service: Service, client: Client, at: str = "") -> None:
    host = loopback()
    client.change_drop(DropWanted(sftp=at or f"{host}:{free_port(host)}"))
    until(lambda: [one.problem for one in client.drop().listening] == [""], "it listens")


def enrolled(service: Service, client: Client, name: str) -> DropLoginMade:
    if "tide-recorder" not in {kind.name for kind in client.kinds()}:
        client.add_kind(RECORDER)
    there = f"10.0.0.{len(client.systems()) + 9}"
    client.add_system(NewSystem(name=name, kind="tide-recorder", address=there))
    return client.add_drop_login(name, NewDropLogin())


@pytest.fixture(scope="module")
def service(postgres: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """One for all tests here, with its drop on: its receiving end takes seconds to begin."""
    folder, host = tmp_path_factory.mktemp("receiving"), loopback()
    with fresh_database(postgres) as database:
        made = Service(folder, database, host, free_port(host))
        try:
            made.start()
            made.set_up()
            with made.client() as client:
                receiving(made, client)
            yield made
        finally:
            made.stop()


def receiving(service: Service, client: Client) -> None:
    """Have it take what arrives at its drop."""
    (service.folder / "attic").mkdir()
    attic = str(service.folder / "attic")
    client.add_store(NewStore(name="attic", address=attic, passphrase=PASSPHRASE))
    client.add_routine(
        NewRoutine(
            name="nightly",
            systems="all",
            when="every day at 02:00",
            store="attic",
            ladder="everything for 14 days",
            zone="UTC",
        )
    )
    switched_on(service, client)


_numbers = count(1)


@pytest.fixture
def client(service: Service) -> Iterator[Client]:
    with service.proved() as made:
        yield made


@pytest.fixture
def recorder(client: Client) -> Iterator[str]:
    """The name of a system of this test alone; what it left at the drop is thrown away."""
    name = f"recorder-{next(_numbers)}"
    yield name
    for file in client.drop_of(name).files:
        client.discard_arrival(name, file.name)


@asynccontextmanager
async def at_the_drop(login: DropLoginMade) -> AsyncIterator[asyncssh.SFTPClient]:
    host, _, port = login.sftp.rpartition(":")
    async with (
        asyncssh.connect(
            host,
            int(port),
            username=login.account,
            password=login.secret,
            known_hosts=None,
            client_keys=None,
            config=None,
            agent_path=None,
        ) as connection,
        connection.start_sftp_client() as sftp,
    ):
        yield sftp


async def pushed(login: DropLoginMade, files: dict[str, bytes]) -> None:
    async with at_the_drop(login) as sftp:
        for name, content in files.items():
            async with sftp.open(name, "wb") as file:
                await file.write(content)


def backups(client: Client, system: str) -> list[str]:
    return [one.id for one in client.backups(system=system)]


def said(client: Client, system: str, words: str) -> bool:
    """Whether a concern of the system says so."""
    return any(words in one.text for one in client.concerns() if system in one.text)


def documents(client: Client, backup: str) -> dict[str, int | None]:
    return {one.path: one.size for one in client.documents(backup)}


def test_what_was_pushed_whole_is_taken_once_and_leaves_the_spool(
    service: Service, client: Client, recorder: str
) -> None:
    login = enrolled(service, client, recorder)
    files = a_push("east", "west")
    asyncio.run(pushed(login, files))
    until(lambda: len(backups(client, recorder)) == 1, "it is taken")
    [backup] = backups(client, recorder)
    assert documents(client, backup) == {name: len(text) for name, text in files.items()}
    until(lambda: client.drop_of(recorder).files == [], "the spool is empty")
    shown = client.backup(backup)
    assert (shown.routine, shown.partial) == ("nightly", False)
    system = client.system(recorder)
    assert system.machine is not None
    assert system.machine.id == "TR-77"
    spool = service.folder / "state/drop/spool"
    assert not any(path.is_file() for path in spool.rglob("*"))
    asyncio.run(pushed(login, a_push("east", "west", depth=7)))
    until(lambda: len(backups(client, recorder)) == 2, "the next one is taken as well")


def test_a_push_that_lacks_something_waits_and_says_what(
    service: Service, client: Client, recorder: str
) -> None:
    login = enrolled(service, client, recorder)
    files = a_push("east", "west")
    west = files.pop("gauges/west.cfg")
    asyncio.run(pushed(login, files))
    until(lambda: "has not arrived" in client.drop_of(recorder).waits, "it says what")
    assert "gauges/west.cfg is listed, and has not arrived" in client.drop_of(recorder).waits
    until(lambda: said(client, recorder, "is not whole"), "a concern says so")
    assert backups(client, recorder) == []
    asyncio.run(pushed(login, {"gauges/west.cfg": west}))
    until(lambda: len(backups(client, recorder)) == 1, "it is taken once it is whole")


def test_the_right_name_and_wrong_content_is_not_taken(
    service: Service, client: Client, recorder: str
) -> None:
    login = enrolled(service, client, recorder)
    files = a_push("east")
    files["gauges/east.cfg"] = b"tide of another recorder\n"
    asyncio.run(pushed(login, files))
    until(
        lambda: any(
            run.state == "failed" and "not what its manifest says" in run.reason
            for run in client.runs(system=recorder)
        ),
        "the take says why it failed",
    )
    assert backups(client, recorder) == []
    until(lambda: client.drop_of(recorder).waits != "", "it is looked at")
    assert len(client.runs(system=recorder)) == 1, "it is not tried again and again"
    assert {file.name for file in client.drop_of(recorder).files} == set(files)


def test_a_push_that_nobody_expects_is_said_and_dropped_by_a_person(
    service: Service, client: Client, recorder: str
) -> None:
    login = enrolled(service, client, recorder)
    asyncio.run(pushed(login, {"core.dump": os.urandom(1000)}))
    until(lambda: said(client, recorder, "core.dump"), "a concern names it")
    [file] = client.drop_of(recorder).files
    assert not file.expected
    done = service.fennox("drop", "discard", recorder, "core.dump", "--yes")
    assert done.returncode == 0, done.stderr
    assert client.drop_of(recorder).files == []


def test_another_machine_under_a_systems_name_is_refused(
    service: Service, client: Client, recorder: str
) -> None:
    login = enrolled(service, client, recorder)
    asyncio.run(pushed(login, a_push("east")))
    until(lambda: len(backups(client, recorder)) == 1, "it is taken")
    until(lambda: client.drop_of(recorder).files == [], "the spool is empty")
    files = {"about.json": ABOUT.replace(b"TR-77", b"TR-78"), "gauges/x.cfg": b"tide x\n"}
    listed = "".join(f"{sha256(text).hexdigest()}  {name}\n" for name, text in files.items())
    asyncio.run(pushed(login, {**files, "MANIFEST": listed.encode()}))
    until(
        lambda: any("TR-78" in (run.reason or "") for run in client.runs(system=recorder)),
        "a person is asked which machine it is",
    )
    assert len(backups(client, recorder)) == 1
    client.confirm(recorder, "TR-78")
    run = service.ended(client.take(NewTake(system=recorder)).id)
    assert run.state == "done", run.reason
    assert len(backups(client, recorder)) == 2


async def test_a_push_that_goes_on_keeps_to_the_rate_that_is_set_meanwhile(
    service: Service, client: Client, recorder: str
) -> None:
    login = enrolled(service, client, recorder)
    piece = os.urandom(100_000)
    async with at_the_drop(login) as sftp, sftp.open("core.dump", "wb") as file:
        await file.write(piece)
        await asyncio.to_thread(client.change_drop, DropWanted(rate=100_000))
        async with asyncio.timeout(30):
            while not await slowly(file.write(piece)):
                pass
        shown = await asyncio.to_thread(service.fennox, "drop", "set", "--rate", "0")
        assert "rate of a system  any" in shown.stdout, shown.stderr
        async with asyncio.timeout(30):
            while await slowly(file.write(piece)):
                pass
        written = await file.tell()
    until(lambda: client.drop_of(recorder).files[0].state == "arrived", "it arrived")
    assert client.drop_of(recorder).files[0].size == written


async def slowly(writing: Awaitable[object]) -> bool:
    """Whether a second passes meanwhile, more or less."""
    begun = time.monotonic()
    await writing
    return time.monotonic() - begun > 0.7


def test_nothing_is_read_from_a_system_that_pushes(
    service: Service, client: Client, recorder: str
) -> None:
    enrolled(service, client, recorder)
    with pytest.raises(ProblemError, match="not reached"):
        client.probe(recorder)
    run = service.ended(client.take(NewTake(system=recorder)).id)
    assert run.state == "failed"
    assert "Settings of the recorder is not at the drop" in run.reason


def receiver(service: Service) -> int:
    """The process of the receiving end of this service."""
    found = []
    for status in Path("/proc").glob("[0-9]*/stat"):
        with suppress(OSError):  # it has just ended
            name, _, state = status.read_text().partition("(")[2].rpartition(") ")
            if name == "receiver" and int(state.split()[1]) == service.process:
                found.append(int(status.parent.name))
    [one] = found
    return one


def has_ended(process: int) -> bool:
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(") ")[2].startswith("Z")
    except OSError:
        return True


def test_the_receiving_end_outlives_its_own_death(
    service: Service, client: Client, recorder: str
) -> None:
    login = enrolled(service, client, recorder)
    os.kill(receiver(service), signal.SIGKILL)

    def answers() -> bool:
        try:
            asyncio.run(pushed(login, a_push("east")))
        except OSError:
            return False
        return True

    until(answers, "it listens again")
    until(lambda: len(backups(client, recorder)) == 1, "and what was pushed is taken")
    second = receiver(service)
    service.kill()
    until(lambda: has_ended(second), "it ends with the service")
    service.start()


@pytest.mark.long
def test_an_address_that_is_taken_is_said_and_listened_on_once_it_is_free(
    service: Service, client: Client, recorder: str
) -> None:
    enrolled(service, client, recorder)
    host = loopback()
    with socket.create_server((host, free_port(host))) as taken:
        address = f"{host}:{taken.getsockname()[1]}"
        client.change_drop(DropWanted(sftp=address))
        until(lambda: any(one.problem for one in client.drop().listening), "it is said")
    until(lambda: [one.problem for one in client.drop().listening] == [""], "it listens")


def test_an_account_belongs_to_one_system_however_they_are_called(
    service: Service, client: Client, recorder: str
) -> None:
    first = enrolled(service, client, recorder)
    client.change_system(recorder, SystemChange(name=f"quay-{recorder}"))
    second = enrolled(service, client, recorder)
    assert (first.account, second.account) == (recorder, f"{recorder}-2")
    assert client.drop_of(f"quay-{recorder}").account == recorder


def test_the_command_line_shows_what_to_paste(
    service: Service, client: Client, recorder: str
) -> None:
    enrolled(service, client, recorder)
    shown = service.fennox("drop", "login", "add", recorder)
    assert shown.returncode == 0, shown.stderr
    for word in ("SFTP", "account", "secret", "folder", "SHA256:"):
        assert word in shown.stdout
    assert recorder in service.fennox("drop", "list").stdout
    assert "SHA256:" in service.fennox("drop", "show").stdout
    assert "Nothing waits" in service.fennox("drop", "show", recorder).stderr
    off = service.fennox("drop", "set", "--sftp", "off")
    assert "off" in off.stdout
    until(lambda: client.drop().listening == [], "nothing listens")
    refused = service.fennox("drop", "login", "add", recorder)
    assert refused.returncode == 3
    assert "fennox drop set" in refused.stderr
    switched_on(service, client)
