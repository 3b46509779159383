"""Workers at sites: what only they can reach is enrolled, taken, compared and restored through
them.
"""

from __future__ import annotations

import asyncio
import contextlib
import signal
import ssl
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import func, select, update

from fennox.catalogue.models.systems import Site, System
from fennox.core.errors import BadInput, NotSignedIn, Unreachable
from fennox.links.relay import relay
from fennox.service.concerns import alert_messages, estate_watch
from fennox.service.machines import sites
from fennox.service.machines.context import Context
from fennox.site.carrier import Carrier, networks
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.machines.sites import NewSite, Reach
from fennox.wire.stores import NewLogin, NewStore
from fennox.wire.watch.runs import RunShown
from saltmere.linux import SSH_RESTART, LinuxServer
from tests import programs
from tests.engine.appliances import Place, place
from tests.programs import Program
from tests.service.contexts import START, add_store, add_system
from tests.service.running import PASSPHRASE, Service, came_to, until
from tests.stores.servers import certificate

__all__ = ["place"]

SITE = "Skerry Point"
KIOSK = """
name = "kiosk"
version = 1
title = "Ticket kiosk that is read from itself"
reach = "ssh"
port = 22

[settings.folder]
title = "Where it keeps its settings"
default = "/srv/kiosk"

[identity]
id = { in = "id", regex = "(.+)" }
product = { in = "product", regex = "(.+)" }
version = { in = "product", regex = "Kiosk (.+)" }
[identity.run]
id = ["cat", "{folder}/machine-id"]
product = ["echo", "Kiosk 7"]

[[part]]
name = "settings"
title = "Its settings"
essential = true
[[part.source]]
files = ["{folder}/*.conf"]

[[part]]
name = "exports"
title = "What it exports every night by its own schedule"
[[part.source]]
files = ["{folder}/export-*.txt"]
settled = 60

[[restore.write]]
title = "Put its settings back"
do = "write"
parts = ["settings"]

[[restore.check]]
title = "It has its settings"
do = "check"
run = ["test", "-s", "{folder}/kiosk.conf"]
"""


@dataclass
class Worker:
    """The worker of the site, as a process of its own that knows a URL and a token."""

    service: Service
    program: Program | None = None

    @property
    def log(self) -> str:
        return (self.service.folder / "site-log").read_text()

    def start(self, *more: str) -> Program:
        log = self.service.folder / "site-log"
        log.touch()
        environment = {
            name: value
            for name, value in self.service.environment().items()
            if "FENNOX" not in name
        }
        words = [
            "worker",
            "run",
            "--site",
            SITE,
            "--service",
            self.service.address,
            "--token-file",
            "token",
            *more,
        ]
        self.program = programs.start(words, environment, self.service.folder, said=log, wrong=log)
        return self.program

    def connected(self) -> bool:
        with self.service.client() as client:
            return any(site.connected for site in client.sites())

    def come(self, *more: str) -> None:
        program = self.start(*more)

        def come() -> bool:
            assert program.poll() is None, self.log
            return self.connected()

        until(come, "the worker has come")

    def stop(self) -> None:
        if self.program is not None:
            self.program.kill()


@pytest.fixture
def worker(service: Service) -> Iterator[Worker]:
    made = Worker(service)
    admitted = service.fennox("worker", "admit", SITE, "--quiet")
    assert admitted.returncode == 0, admitted.stderr
    service.file("token", admitted.stdout)
    try:
        yield made
    finally:
        made.stop()


def prepare(service: Service, private_key: str) -> None:
    (service.folder / "attic").mkdir()
    with service.client() as client:
        client.add_store(
            NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        )
        client.add_login(NewLogin(name="quay-root", account="root", private_key=private_key))


def take(service: Service, system: str) -> RunShown:
    with service.client() as client:
        return service.ended(client.take(NewTake(system=system)).id)


def add(service: Service, name: str, server: LinuxServer) -> None:
    words = [
        "system",
        "add",
        name,
        "linux-server",
        f"{server.host}:{server.port}",
        "--login",
        "quay-root",
    ]
    more = [
        "--site",
        SITE,
        "--accept-key",
        server.host_key,
        "--setting",
        f"ssh-restart={SSH_RESTART}",
    ]
    done = service.fennox(*words, *more)
    assert done.returncode == 0, done.stderr


def test_a_sites_machines_are_looked_at_taken_and_compared_through_its_worker(
    service: Service, worker: Worker, server: LinuxServer, key_pair: tuple[str, str], place: Place
) -> None:
    appliance = place()
    appliance.configure("quay", "keeper", "made-up-password")
    prepare(service, key_pair[0])
    shell = f"{server.host}:{server.port}"
    nobody = service.fennox("system", "look", shell, "--login", "quay-root", "--site", SITE)
    assert nobody.returncode == 1, nobody.stderr
    assert "is not connected" in nobody.stderr, nobody.stderr
    worker.come()
    seen = service.fennox(
        "system",
        "look",
        shell,
        "--login",
        "quay-root",
        "--site",
        SITE,
        "--accept-key",
        server.host_key,
    )
    assert "is a linux-server" in seen.stdout, seen.stderr
    add(service, "web-9", server)
    with service.client() as client:
        client.add_login(NewLogin(name="keeper", account="keeper", password="made-up-password"))
        client.add_system(
            NewSystem(
                name="vault-1",
                kind="storage-server",
                address=appliance.address,
                login="keeper",
                key=appliance.fingerprint,
                site=SITE,
            )
        )
    for name in ("web-9", "vault-1"):
        done = take(service, name)
        assert done.state == "done", done.reason
    server.write("/etc/motd", "Boats sail at eight.\n")
    compared = service.fennox("backup", "compare", "--system", "web-9", "--live")
    assert "/etc/motd" in compared.stdout, compared.stderr
    for address in (shell, appliance.address):
        assert address in worker.log
    listed = service.fennox("worker", "sites").stdout
    assert [SITE in listed, "connected" in listed] == [True, True]


@pytest.mark.long
def test_what_is_due_waits_for_its_sites_worker_and_goes_on_when_it_comes(
    service: Service, worker: Worker, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    prepare(service, key_pair[0])
    worker.come()
    add(service, "web-9", server)
    assert worker.program is not None
    worker.program.send_signal(signal.SIGTERM)
    assert worker.program.wait(30) == 0
    with service.client() as client:
        until(lambda: not worker.connected(), "the service knows that it has gone")
        run = client.take(NewTake(system="web-9")).id
        assert "is not connected" in (client.probe("web-9").problem or "")
        assert client.run(run).state == "queued"
        worker.come()
        assert service.ended(run).state == "done"
        revoked = service.fennox("worker", "revoke", SITE)
        assert revoked.returncode == 5
        assert "1 system is reached" in revoked.stderr
        assert service.fennox("worker", "revoke", SITE, "--yes").returncode == 0
        assert worker.program.wait(60) == 4
        assert f"The token of the site {SITE} was revoked." in worker.log
    assert take(service, "web-9").state == "done"  # by the service's own network again
    assert worker.start().wait(60) == 4
    assert "does not know the token" in worker.log


@pytest.mark.long
def test_a_machine_is_read_and_restored_from_itself(
    service: Service, worker: Worker, key_pair: tuple[str, str]
) -> None:
    kiosk = service.folder / "kiosk"
    kiosk.mkdir()
    (kiosk / "machine-id").write_text("kiosk-7f31\n")
    (kiosk / "kiosk.conf").write_text("quay = north\n")
    (kiosk / "export-1.txt").write_text("still being written\n")
    prepare(service, key_pair[0])
    worker.come("--here")
    with service.client() as client:
        [site] = client.sites()
        assert site.key in worker.log
        client.add_kind(KIOSK)
        client.add_login(NewLogin(name="kiosk", account="root", here=True))
        client.add_system(
            NewSystem(
                name="kiosk-1",
                kind="kiosk",
                address="here",
                login="kiosk",
                key=site.key,
                site=SITE,
                settings={"folder": str(kiosk)},
            )
        )
        done = take(service, "kiosk-1")
        assert done.state == "done", done.reason
        backup = client.backup(str(came_to(done, "backup")))
        assert [finding.code for finding in backup.findings] == ["still-written"]
        (kiosk / "kiosk.conf").write_text("quay = south\n")
        drafted = service.fennox("restore", "draft", backup.id, "--repair")
        assert drafted.returncode == 0, drafted.stderr
        [sheet] = client.restores()
        ended = service.ended(client.start_restore(sheet.id).id)
        assert (ended.state, came_to(ended, "proved")) == ("done", True), ended.reason
    assert (kiosk / "kiosk.conf").read_text() == "quay = north\n"


def test_a_worker_that_was_not_told_so_lets_its_own_machine_alone(
    service: Service, worker: Worker
) -> None:
    worker.come()
    with service.client() as client:
        assert client.sites()[0].key == ""
        client.add_login(NewLogin(name="kiosk", account="root", here=True))
    told = service.fennox(
        "system", "look", "here", "--login", "kiosk", "--site", SITE, "--kind", "linux-server"
    )
    assert told.returncode == 1, told.stderr
    assert "does not let its own machine be read" in told.stderr, told.stderr


def test_a_command_on_the_worker_itself_ends_when_nobody_hears_it(
    service: Service, worker: Worker, key_pair: tuple[str, str]
) -> None:
    """A run that is stopped leaves nothing behind on the machine."""
    prepare(service, key_pair[0])
    worker.come("--here")
    pid = service.folder / "pid"
    with service.client() as client:
        [site] = client.sites()
        slow = KIOSK.replace('["echo", "Kiosk 7"]', f'["sh", "-c", "echo $$ > {pid}; sleep 600"]')
        (service.folder / "machine-id").write_text("kiosk-7f31\n")
        client.add_kind(slow)
        client.add_login(NewLogin(name="kiosk", account="root", here=True))
        words = [
            "system",
            "add",
            "kiosk-1",
            "kiosk",
            "here",
            "--login",
            "kiosk",
            "--site",
            SITE,
            "--accept-key",
        ]
        adding = programs.start(
            [*words, site.key, "--setting", f"folder={service.folder}"],
            {**service.environment(), "FENNOX_URL": service.address, "FENNOX_TOKEN": service.token},
            service.folder,
            said=service.folder / "said",
            wrong=service.folder / "wrong",
        )
        until(lambda: pid.exists() and pid.read_text().strip() != "", "the command runs")
        worker_process = worker.program
        assert worker_process is not None
        service.kill()  # the service is gone, and with it the line
        until(
            lambda: not Path(f"/proc/{pid.read_text().strip()}").exists(), "the command has ended"
        )
        assert worker_process.poll() is None  # it waits for the service
        adding.kill()


class Liar(Carrier):
    """Leads to another machine than the one that was asked for."""

    elsewhere: tuple[str, int]

    async def _open(self, _wanted: Reach) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        return await asyncio.open_connection(*self.elsewhere)


async def test_a_worker_that_leads_elsewhere_learns_nothing(
    service: Service, install: Callable[[str], LinuxServer], key_pair: tuple[str, str]
) -> None:
    wanted, other = install("web-9"), install("web-8")
    with service.client() as client:
        token = client.admit(NewSite(name=SITE)).token
        client.add_login(NewLogin(name="quay-root", account="root", private_key=key_pair[0]))
        liar = Liar(service.address, SITE, token)
        liar.elsewhere = (other.host, other.port)
        carrying = asyncio.create_task(liar.carry())
        await asyncio.to_thread(until, lambda: client.sites()[0].connected, "the worker has come")
        words = [
            "system",
            "add",
            "web-9",
            "linux-server",
            f"{wanted.host}:{wanted.port}",
            "--login",
            "quay-root",
        ]
        told = await asyncio.to_thread(
            service.fennox, *words, "--site", SITE, "--accept-key", wanted.host_key
        )
        assert f"shows the host key {other.host_key}" in told.stderr
        assert client.systems() == []
        carrying.cancel()
        await asyncio.gather(carrying, return_exceptions=True)


async def test_only_allowed_networks_are_connected_to(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    with service.client() as client:
        token = client.admit(NewSite(name=SITE)).token
        client.add_login(NewLogin(name="quay-root", account="root", private_key=key_pair[0]))
        before = asyncio.all_tasks()
        carrier = Carrier(service.address, SITE, token, networks(["10.20.0.0/16"]))
        carrying = asyncio.create_task(carrier.carry())
        await asyncio.to_thread(until, lambda: client.sites()[0].connected, "the worker has come")
        words = [
            "system",
            "look",
            f"{server.host}:{server.port}",
            "--login",
            "quay-root",
            "--site",
            SITE,
        ]
        told = await asyncio.to_thread(service.fennox, *words, "--kind", "linux-server")
        assert "in none of the networks that this worker connects to" in told.stderr
        with pytest.raises(NotSignedIn):
            await Carrier(service.address, SITE, token[::-1]).carry()
        carrying.cancel()
        await asyncio.gather(carrying, return_exceptions=True)
        assert asyncio.all_tasks() == before  # its line is closed, not only about to be


async def test_it_speaks_tls_and_trusts_the_authority_that_it_was_given(
    service: Service, tmp_path: Path
) -> None:
    """As through a proxy that ends TLS before the service."""
    with service.client() as client:
        token = client.admit(NewSite(name=SITE)).token
        shown, key, _ = certificate(tmp_path, service.host)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(shown, key)

        passing: list[asyncio.Task[None] | None] = []

        async def pass_on(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            inner_reader, inner_writer = await asyncio.open_connection(service.host, service.port)

            async def receive() -> bytes | None:
                return await reader.read(65536) or None

            async def send(block: bytes) -> None:
                writer.write(block)
                await writer.drain()

            passing.append(asyncio.current_task())
            try:
                await relay(inner_reader, inner_writer, receive, send)
            finally:
                writer.close()
                with contextlib.suppress(OSError):
                    await writer.wait_closed()

        server = await asyncio.start_server(pass_on, service.host, 0, ssl=context)
        async with server:
            address = f"https://{service.host}:{server.sockets[0].getsockname()[1]}"
            with pytest.raises(Unreachable, match="certificate"):
                await Carrier(address, SITE, token).carry()
            carrying = asyncio.create_task(Carrier(address, SITE, token, authority=shown).carry())
            await asyncio.to_thread(
                until, lambda: client.sites()[0].connected, "the worker has come"
            )
            carrying.cancel()
            await asyncio.gather(carrying, *filter(None, passing), return_exceptions=True)


def test_a_second_worker_takes_over_and_the_first_says_so(service: Service, worker: Worker) -> None:
    worker.come()
    first = worker.program
    assert first is not None
    worker.start()
    assert first.wait(60) == 1
    assert "Another worker of the site" in worker.log
    until(worker.connected, "the second is connected")


def test_wrong_wishes_are_told_before_anything_is_tried(service: Service) -> None:
    for words, said in (
        (["--only", "10.0.0.0/8"], "--only is for the worker of a site"),
        (["--site", SITE, "--slots", "3"], "--slots is for a worker near the database"),
        (["--site", SITE], "It must know where the service is"),
        (
            ["--site", SITE, "--service", "http://fennox.saltmere.example", "--token-file", "t"],
            "not sent in clear",
        ),
        (
            ["--site", SITE, "--service", "fennox:8420", "--token-file", "t"],
            "is no address of a service",
        ),
        (
            [
                "--site",
                SITE,
                "--service",
                "https://f.example",
                "--token-file",
                "t",
                "--only",
                "quay",
            ],
            "Write a network",
        ),
        (
            [
                "--site",
                SITE,
                "--service",
                "https://f.example",
                "--token-file",
                "t",
                "--authority",
                "t",
            ],
            "PEM file",
        ),
    ):
        service.file("t", "token\n")
        environment = {**service.environment()}
        done = programs.run(["worker", "run", *words], environment, service.folder)
        assert done.returncode == 2, (words, done.stderr)
        assert said in done.stderr, (words, done.stderr)
    again = ["worker", "admit", SITE]
    assert service.fennox(*again).returncode == 0
    assert "Use --anew" in service.fennox(*again).stderr
    assert service.fennox(*again, "--anew").returncode == 0
    assert service.fennox("worker", "revoke", "Nowhere").returncode == 3


async def test_a_site_that_is_away_is_one_concern_and_one_message(context: Context) -> None:
    await add_store(context)
    for name in ("web-1", "web-2"):
        await add_system(context, name)
    async with context.session() as session:
        await session.execute(update(System).values(site=SITE))
        token = {"token_hash": "0" * 64, "admitted": START, "by": "harbour-admin"}
        session.add(Site(name=SITE, seen=func.now() - timedelta(hours=1), **token))
    async with context.session() as session:
        begun, _ = await estate_watch.settle(context, session)
        [away] = [row for row in begun if row.cause == f"site|{SITE}" and row.noun == "service"]
        assert away.means.startswith("2 systems are reached through it")
        together = [rows for rows in alert_messages._by_cause(begun) if rows[0].cause == away.cause]
        assert together[0][0] is away
    async with context.session() as session:
        assert await sites.heard_of(session, SITE, "0" * 64)
        assert not await sites.heard_of(session, SITE, "1" * 64)
    async with context.session() as session:
        _, ended = await estate_watch.settle(context, session)
        assert [row.about for row in ended if row.cause == f"site|{SITE}"] == [SITE]
        assert (await session.execute(select(Site.connected))).scalar_one() is True


async def test_without_its_worker_a_site_cannot_be_dialled(context: Context) -> None:
    async with context.session() as session:
        session.add(Site(name=SITE, token_hash="0" * 64, admitted=START, by="harbour-admin"))
    assert await context.machines.dialler("") is None
    assert await context.machines.dialler("Holm") is None
    with pytest.raises(Unreachable, match="is not connected"):
        await context.machines.dialler(SITE)


def test_a_service_is_named_by_its_url() -> None:
    with pytest.raises(BadInput, match="no address of a service"):
        Carrier("ftp://fennox.example", SITE, "token")
