"""What systems of a site push to its worker, which carries it to the receiving end."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from itertools import count

import asyncssh
import pytest

from fennox.client.api import Client
from fennox.wire.drops import DropLoginMade, DropWanted, NewDropLogin
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.machines.sites import NewSite
from tests import programs
from tests.places import free_port, loopback
from tests.service.drops.test_pushes import RECORDER, a_push, backups, client, pushed, service
from tests.service.running import Service, until

__all__ = ["client", "service"]

SITE = "Skerry Point"
_numbers = count(1)


@contextmanager
def working_at(service: Service, client: Client, site: str, *listening: str) -> Iterator[None]:
    """The worker of a site, which takes pushes where these words say."""
    service.file("token", client.admit(NewSite(name=site)).token)
    log = service.folder / "site-log"
    words = ["worker", "run", "--site", site, "--service", service.address]
    words += ["--token-file", str(service.folder / "token"), *listening]
    environment = {k: v for k, v in service.environment().items() if "FENNOX" not in k}
    worker = programs.start(words, environment, service.folder, said=log, wrong=log)
    try:
        until(lambda: [one.connected for one in client.sites()] == [True], "the worker has come")
        yield
    finally:
        worker.kill()


@pytest.fixture(scope="module")
def at_site(service: Service) -> Iterator[str]:
    """Where the site's worker takes pushes."""
    there = f"{loopback()}:{free_port('127.0.0.1')}"
    with service.client() as client:
        client.add_kind(RECORDER)
        with working_at(service, client, SITE, "--drop", there):
            yield there


@pytest.fixture
def login(client: Client, at_site: str) -> DropLoginMade:
    """Of a system at the site."""
    number = next(_numbers)
    name = f"tide-{number}"
    client.add_system(
        NewSystem(name=name, kind="tide-recorder", address=f"10.9.0.{number}", site=SITE)
    )
    return client.add_drop_login(name, NewDropLogin())


def test_a_system_is_told_to_push_to_its_sites_worker_and_is_taken(
    client: Client, at_site: str, login: DropLoginMade
) -> None:
    assert (login.sftp, login.ftps, login.ftp) == (at_site, "", "")
    assert login.host_key == client.drop().host_key, "the worker knows no key of its own"
    asyncio.run(pushed(login, a_push("east", "west")))
    until(lambda: len(backups(client, login.system)) == 1, "what was pushed is taken")


async def guessed(login: DropLoginMade, whence: str, secret: str) -> bool:
    """Whether the drop let this one in, who comes from this address."""
    host, _, port = login.sftp.rpartition(":")
    try:
        async with asyncssh.connect(
            host,
            int(port),
            username=login.account,
            password=secret,
            known_hosts=None,
            client_keys=None,
            config=None,
            agent_path=None,
            local_addr=(whence, 0),
        ):
            return True
    except (OSError, asyncssh.Error):
        return False


def test_whoever_guesses_at_a_site_shuts_out_nobody_else(login: DropLoginMade) -> None:
    for number in range(12):
        assert not asyncio.run(guessed(login, "127.0.0.77", f"guess {number}"))
    assert not asyncio.run(guessed(login, "127.0.0.77", login.secret)), "it is not heard any more"
    assert asyncio.run(guessed(login, "127.0.0.78", login.secret))


def test_while_the_receiving_end_is_off_nobody_is_let_in_and_then_they_are_again(
    client: Client, login: DropLoginMade
) -> None:
    before = client.drop().sftp
    client.change_drop(DropWanted(sftp=""))
    until(lambda: not asyncio.run(guessed(login, "127.0.0.79", login.secret)), "it is off")
    client.change_drop(DropWanted(sftp=before))
    until(lambda: asyncio.run(guessed(login, "127.0.0.80", login.secret)), "it is on again")


def test_without_the_token_nothing_is_carried(service: Service, at_site: str) -> None:
    said = service.fennox("worker", "run", "--site", SITE, "--drop-told", "quay.example")
    assert said.returncode == 2
    assert "nothing listens" in said.stderr
    service.file("wrong-token", "x" * 43)
    words = ("worker", "run", "--site", SITE, "--service", service.address, "--token-file")
    said = service.fennox(*words, str(service.folder / "wrong-token"), "--drop", at_site)
    assert said.returncode == 1
    assert f"{at_site} cannot be listened on: Address already in use." in said.stderr


def test_one_machine_that_opens_many_connections_shuts_out_no_other_one(
    login: DropLoginMade,
) -> None:
    host, _, port = login.sftp.rpartition(":")
    with ExitStack() as idle:
        opened = [
            idle.enter_context(
                socket.create_connection((host, int(port)), 30, source_address=("127.0.0.81", 0))
            )
            for _ in range(80)
        ]
        greeted = [line for one in opened if (line := one.makefile("rb").readline())]
        assert 0 < len(greeted) <= 16
        assert asyncio.run(guessed(login, "127.0.0.82", login.secret))
