"""Appliances of the estate beside a real service with its drop switched on. One service for all of
them: starting one takes longer than most of these tests.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import Generic, TypeVar

import pytest

from fennox.client.api import Client
from fennox.wire.backups import NewTake
from fennox.wire.comparing import CompareWanted
from fennox.wire.drops import NewDropLogin
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin, NewStore
from saltmere.appliance import RunningAppliance
from saltmere.appliance_server import ApplianceServer
from saltmere.beacon.machine import BeaconServer
from saltmere.fender.machine import FenderServer
from saltmere.gullery.machine import GulleryServer
from saltmere.hailer.machine import HailerMachine
from saltmere.keelson.machine import KeelsonHost
from saltmere.kelp.machine import KelpServer, join
from saltmere.lattice.machine import LatticeMachine
from saltmere.linux import LinuxServer, new_key_pair
from saltmere.logline.machine import LoglineMachine
from saltmere.masthead.machine import MastheadServer
from saltmere.orlop.machine import OrlopMachine
from saltmere.server_with_pages import PAGES_PORT, ServerWithPages
from saltmere.thole.machine import TholeMachine
from saltmere.tideway.machine import TidewayServer
from saltmere.warden.machine import PHRASE as WARDEN_PHRASE
from saltmere.warden.machine import WardenServer
from saltmere.watchbill.machine import WatchbillServer
from tests.database import fresh_database
from tests.demo.conftest import (
    InstallAppliance,
    LaunchAppliance,
    install_appliance,
    launch_appliance,
)
from tests.places import free_port, loopback
from tests.service.drops.test_pushes import switched_on
from tests.service.restores.test_purposes import drafted, proved
from tests.service.running import PASSPHRASE, Service, came_to

__all__ = ["install_appliance", "launch_appliance"]

PHRASE = "herring under the pier"
Deploy = Callable[[], OrlopMachine]
Machine = TypeVar("Machine", bound=RunningAppliance | ApplianceServer)
Server = TypeVar("Server", bound=ApplianceServer)
Reached = RunningAppliance | ApplianceServer

_IN_EVERY_RUN = "test_orlop"  # it pushes and pulls, and asks for a new deployment
_numbers = count(1)


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """`make test` proves of one of them that it comes back; the others, and all traps, are for
    `make appliances`.
    """
    here = Path(__file__).parent
    for item in items:
        comes_back = item.name.startswith("test_lost") and item.path.stem == _IN_EVERY_RUN
        if here in item.path.parents and not comes_back:
            item.add_marker("appliance")


@pytest.fixture(scope="session")
def harbour(postgres: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """A service with a store and its drop switched on, for all appliances: none meets another."""
    folder, host = tmp_path_factory.mktemp("harbour"), loopback()
    with fresh_database(postgres) as database:
        made = Service(folder, database, host, free_port(host))
        try:
            made.start()
            made.set_up()
            (folder / "attic").mkdir()
            with made.client() as client:
                switched_on(made, client)
                attic = NewStore(name="attic", address=str(folder / "attic"), passphrase=PASSPHRASE)
                client.add_store(attic)
            yield made
        finally:
            made.stop()


@pytest.fixture
def deploy(tmp_path: Path) -> Iterator[Deploy]:
    """Deploy a new manager."""
    made: list[OrlopMachine] = []

    def put_up() -> OrlopMachine:
        host = loopback()
        machine = OrlopMachine(tmp_path / f"orlop-{len(made)}", host, free_port(host))
        made.append(machine)
        machine.start()
        return machine

    yield put_up
    for machine in made:
        machine.stop()


@dataclass
class Protected(Generic[Machine]):
    """One appliance, enrolled under ``name``; ``fresh`` makes new ones of its sort."""

    service: Service
    client: Client
    name: str
    machine: Machine
    fresh: Callable[..., Machine]

    def take(self) -> str:
        run = self.service.ended(self.client.take(NewTake(system=self.name)).id)
        assert run.state == "done", run.reason
        return str(came_to(run, "backup"))

    def changed(self, before: str, after: str | None = None) -> list[str]:
        """Paths of what differs; without ``after`` from the live one."""
        sides = CompareWanted(before=before, after=after, live=after is None)
        return [one.path for one in self.client.compare(sides).comparison.documents]

    def wanted(self, backup: str, target: Reached, **more: object) -> NewDraft:
        there = {"at": target.address, "key": target.fingerprint, "login": f"{self.name}-new"}
        if isinstance(target, ServerWithPages):
            there["beside"] = f"{self.name}-pages-new"
        return NewDraft.model_validate({"backup": backup, "purpose": "replace", **there, **more})

    def draft(self, backup: str, target: Reached, **more: object) -> str:
        return drafted(self.service, self.client, self.wanted(backup, target, **more))

    def restore(self, sheet: str) -> None:
        proved(self.service, self.client, sheet)


@pytest.fixture
def orlop(harbour: Service, deploy: Deploy) -> Iterator[Protected[OrlopMachine]]:
    """A manager that pushes to its drop."""
    manager, name = deploy(), f"orlop-{next(_numbers)}"
    manager.configure("keeper", "made-up-keeper", hosts={})
    with harbour.proved() as client:
        for of, account, password in (
            ("keeper", "keeper", "made-up-keeper"),
            ("phrase", "orlop", PHRASE),
            ("new", "deploy", "deploy"),
        ):
            made = NewLogin(name=f"{name}-{of}", account=account, password=password)
            client.add_login(made)
        client.add_system(
            NewSystem(
                name=name,
                kind="orlop-manager",
                address=manager.address,
                login=f"{name}-keeper",
                key=manager.fingerprint,
                settings={"passphrase": f"{name}-phrase"},
            )
        )
        told = client.add_drop_login(name, NewDropLogin())
        host, _, port = told.sftp.rpartition(":")
        place = {"host": host, "port": int(port), "account": told.account, "secret": told.secret}
        manager.request("PUT", "/backups/place", {**place, "key": told.host_key, "folder": "/"})
        yield Protected(harbour, client, name, manager, deploy)


@pytest.fixture
def install_host(tmp_path: Path) -> Iterator[Callable[..., KeelsonHost]]:
    """Install a new host."""
    made: list[KeelsonHost] = []

    def put_up(partition: int = 32) -> KeelsonHost:
        host = loopback()
        machine = KeelsonHost(
            tmp_path / f"keelson-{len(made)}",
            host,
            free_port(host),
            shell_port=free_port(host),
            partition=partition,
        )
        made.append(machine)
        machine.start()
        return machine

    yield put_up
    for machine in made:
        machine.stop()


@pytest.fixture
def keelson(
    harbour: Service, install_host: Callable[..., KeelsonHost]
) -> Iterator[Protected[KeelsonHost]]:
    """A host with three machines that run."""
    host, name = install_host(), f"keelson-{next(_numbers)}"
    host.configure("keelson-1", "keeper", "made-up-keeper", licence="KEEL-FULL-1")
    with harbour.proved() as client:
        for of, account, password in (
            ("keeper", "keeper", "made-up-keeper"),
            ("new", "root", "install"),
        ):
            made = NewLogin(name=f"{name}-{of}", account=account, password=password)
            client.add_login(made)
        client.add_system(
            NewSystem(
                name=name,
                kind="keelson-host",
                address=host.address,
                login=f"{name}-keeper",
                key=host.fingerprint,
            )
        )
        yield Protected(harbour, client, name, host, install_host)


def protect(
    harbour: Service,
    install: InstallAppliance,
    key: tuple[str, str],
    appliance: type[Server],
    kind: str,
    settings: dict[str, str] | None = None,
) -> Iterator[Protected[Server]]:
    """A Linux server with a program of its own, enrolled as it is; ``key``: of its login."""
    server, name = install(appliance), f"{appliance.program}-{next(_numbers)}"
    assert isinstance(server, appliance)
    told = dict(settings or {})
    with harbour.proved() as client:
        for of in ("keeper", "new"):
            login = NewLogin(name=f"{name}-{of}", account="root", private_key=key[0])
            client.add_login(login)
        if isinstance(server, ServerWithPages):
            password = server.password
            client.add_login(NewLogin(name=f"{name}-pages-new", account="admin", password=password))
            server.set_administrator("keeper", "made-up-keeper")
            client.add_login(
                NewLogin(name=f"{name}-pages", account="keeper", password="made-up-keeper")
            )
            told |= {"pages-login": f"{name}-pages", "pages-port": str(PAGES_PORT)}
        client.add_system(
            NewSystem(
                name=name,
                kind=kind,
                address=server.address,
                login=f"{name}-keeper",
                key=server.fingerprint,
                settings=told,
            )
        )

        def fresh(**more: object) -> Server:
            made = install(appliance, **more)
            assert isinstance(made, appliance)
            return made

        yield Protected(harbour, client, name, server, fresh)


@pytest.fixture
def masthead(
    harbour: Service, install_appliance: InstallAppliance, key_pair: tuple[str, str]
) -> Iterator[Protected[MastheadServer]]:
    """A monitoring server of 25 checks, with a licence for as many as it has."""
    for made in protect(harbour, install_appliance, key_pair, MastheadServer, "masthead-server"):
        made.machine.set_up("northness-watch", licence="MAST-40-QUAY")
        yield made


@pytest.fixture
def watchbill(
    harbour: Service, install_appliance: InstallAppliance, key_pair: tuple[str, str]
) -> Iterator[Protected[WatchbillServer]]:
    for made in protect(harbour, install_appliance, key_pair, WatchbillServer, "watchbill-server"):
        made.machine.set_up()
        yield made


@pytest.fixture
def tideway(
    harbour: Service, install_appliance: InstallAppliance, key_pair: tuple[str, str]
) -> Iterator[Protected[TidewayServer]]:
    """An address server with two clients."""
    for made in protect(harbour, install_appliance, key_pair, TidewayServer, "tideway-server"):
        made.machine.set_up()
        yield made


@pytest.fixture
def beacon(
    harbour: Service, install_appliance: InstallAppliance, key_pair: tuple[str, str]
) -> Iterator[Protected[BeaconServer]]:
    """A recorder manager of four devices."""
    for made in protect(harbour, install_appliance, key_pair, BeaconServer, "beacon-recorder"):
        made.machine.set_up()
        yield made


@dataclass
class ProtectedSet:
    """A replicated directory of three members; ``first``: the one that is lost. Repair logins have
    a key of their own.
    """

    first: Protected[KelpServer]
    others: list[KelpServer]

    def wanted(self, backup: str, target: Reached, **more: object) -> NewDraft:
        entrance = {"at": target.address, "login": f"{self.first.name}-repair"}
        entrance["key"] = target.fingerprint
        return self.first.wanted(backup, target, entrance=entrance, **more)

    def draft(self, backup: str, target: Reached, **more: object) -> str:
        return drafted(self.first.service, self.first.client, self.wanted(backup, target, **more))


@pytest.fixture
def kelp(
    harbour: Service, install_appliance: InstallAppliance, key_pair: tuple[str, str]
) -> Iterator[ProtectedSet]:
    """Three members, all enrolled."""
    repair = new_key_pair("repair")

    def install(appliance: type[KelpServer], **more: object) -> ApplianceServer:
        return install_appliance(appliance, repair_key=repair[1], **more)

    of = (harbour, install, key_pair, KelpServer, "kelp-member")
    made = [protect(*of) for _ in range(3)]
    members = [next(one) for one in made]
    first = members[0]
    first.client.add_login(
        NewLogin(name=f"{first.name}-repair", account="root", private_key=repair[0])
    )
    first.machine.set_up()
    join([one.machine for one in members])
    first.machine.save_now()
    yield ProtectedSet(first, [one.machine for one in members[1:]])
    for one in made:
        next(one, None)


@pytest.fixture
def gullery(
    harbour: Service,
    install: Callable[[str], LinuxServer],
    install_appliance: InstallAppliance,
    key_pair: tuple[str, str],
) -> Iterator[Protected[GulleryServer]]:
    """A controller of three collectors that sends its commits to another server."""
    for made in protect(harbour, install_appliance, key_pair, GulleryServer, "gullery-controller"):
        made.machine.set_up()
        made.machine.send_to(install("standby"))
        yield made


@pytest.fixture
def warden(
    harbour: Service, install_appliance: InstallAppliance, key_pair: tuple[str, str]
) -> Iterator[Protected[WardenServer]]:
    """An access-policy server that pushes to its drop."""
    phrase = f"warden-phrase-{next(_numbers)}"
    with harbour.proved() as client:
        client.add_login(NewLogin(name=phrase, account="warden", password=WARDEN_PHRASE))
    settings = {"passphrase": phrase}
    of = (harbour, install_appliance, key_pair, WardenServer, "warden-server", settings)
    for made in protect(*of):
        made.machine.set_up()
        told = made.client.add_drop_login(made.name, NewDropLogin())
        host, _, port = told.sftp.rpartition(":")
        made.machine.push_to(host, int(port), told.account, str(told.secret), told.host_key)
        yield made


def protect_machine(
    harbour: Service,
    launch: LaunchAppliance,
    appliance: type[Machine],
    kind: str,
    new: tuple[str, str],
    settings: dict[str, str] | None = None,
) -> Protected[Machine]:
    """An appliance with an HTTPS interface, enrolled; ``new``: the login of a new one."""
    machine, name = launch(appliance), f"{kind.partition('-')[0]}-{next(_numbers)}"
    assert isinstance(machine, HailerMachine | TholeMachine | LoglineMachine | LatticeMachine)
    machine.configure(f"{kind.partition('-')[0]}-1", "keeper", "made-up-keeper")
    client = harbour.proved()
    for of, account, password in (("keeper", "keeper", "made-up-keeper"), ("new", *new)):
        client.add_login(NewLogin(name=f"{name}-{of}", account=account, password=password))
    client.add_system(
        NewSystem(
            name=name,
            kind=kind,
            address=machine.address,
            login=f"{name}-keeper",
            key=machine.fingerprint,
            settings=settings or {},
        )
    )

    def fresh() -> Machine:
        made = launch(appliance)
        assert isinstance(made, appliance)
        return made

    assert isinstance(machine, appliance)
    return Protected(harbour, client, name, machine, fresh)


@pytest.fixture
def hailer(
    harbour: Service, launch_appliance: LaunchAppliance
) -> Iterator[Protected[HailerMachine]]:
    """A voice mail of four mailboxes that pushes to its drop."""
    of = (harbour, launch_appliance, HailerMachine, "hailer-voice-mail", ("admin", "hailer"))
    made = protect_machine(*of)
    with made.client:
        told = made.client.add_drop_login(made.name, NewDropLogin())
        host, _, port = told.sftp.rpartition(":")
        place = {"host": host, "port": int(port), "account": told.account, "secret": told.secret}
        made.machine.request("PUT", "/place", {**place, "key": told.host_key, "folder": "/"})
        yield made


@pytest.fixture
def thole(harbour: Service, launch_appliance: LaunchAppliance) -> Iterator[Protected[TholeMachine]]:
    """A chassis manager of three slots."""
    of = (harbour, launch_appliance, TholeMachine, "thole-chassis", ("admin", "thole"))
    made = protect_machine(*of)
    with made.client:
        yield made


@pytest.fixture
def lattice(
    harbour: Service, launch_appliance: LaunchAppliance
) -> Iterator[Protected[LatticeMachine]]:
    """A cluster of three members that pushes to its drop."""
    of = (harbour, launch_appliance, LatticeMachine, "lattice-cluster", ("admin", "lattice"))
    made = protect_machine(*of)
    with made.client:
        told = made.client.add_drop_login(made.name, NewDropLogin())
        host, _, port = told.sftp.rpartition(":")
        made.machine.push_to(host, int(port), told.account, str(told.secret))
        yield made


@pytest.fixture
def logline(
    harbour: Service, launch_appliance: LaunchAppliance, key_pair: tuple[str, str]
) -> Iterator[Protected[LoglineMachine]]:
    """A log server with two look-ups that point to files."""
    port, shell = free_port("127.0.0.1"), f"logline-shell-{next(_numbers)}"

    def launch(appliance: type[LoglineMachine]) -> RunningAppliance:
        return launch_appliance(appliance, shell_port=port, authorised_key=key_pair[1])

    with harbour.proved() as client:
        client.add_login(NewLogin(name=shell, account="root", private_key=key_pair[0]))
    settings = {"shell-login": shell, "shell-port": str(port)}
    of = (harbour, launch, LoglineMachine, "logline-server", ("admin", "logline"))
    made = protect_machine(*of, settings)
    with made.client:
        yield made


@pytest.fixture
def fender(
    harbour: Service, install_appliance: InstallAppliance, key_pair: tuple[str, str]
) -> Iterator[Protected[FenderServer]]:
    """An endpoint manager of four tills."""
    for made in protect(harbour, install_appliance, key_pair, FenderServer, "fender-manager"):
        made.machine.set_up()
        yield made
