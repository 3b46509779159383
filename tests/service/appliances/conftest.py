"""Appliances of the estate beside a real service with its drop switched on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
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
from saltmere.keelson.machine import KeelsonHost
from saltmere.orlop.machine import OrlopMachine
from tests.places import free_port, loopback
from tests.service.drops.test_pushes import switched_on
from tests.service.restores.test_purposes import drafted, proved
from tests.service.running import PASSPHRASE, Service, came_to

PHRASE = "herring under the pier"
Deploy = Callable[[], OrlopMachine]
Machine = TypeVar("Machine", bound=RunningAppliance)


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

    def draft(self, backup: str, target: RunningAppliance, **more: object) -> str:
        return drafted(self.service, self.client, wanted(backup, target, **more))

    def restore(self, sheet: str) -> None:
        proved(self.service, self.client, sheet)


def wanted(backup: str, target: RunningAppliance, **more: object) -> NewDraft:
    given = {"at": target.address, "key": target.fingerprint, "login": "deploy", **more}
    return NewDraft.model_validate({"backup": backup, "purpose": "replace", **given})


def with_store(service: Service, client: Client) -> None:
    (service.folder / "attic").mkdir()
    attic = str(service.folder / "attic")
    client.add_store(NewStore(name="attic", address=attic, passphrase=PASSPHRASE))


@pytest.fixture
def orlop(service: Service, deploy: Deploy) -> Iterator[Protected[OrlopMachine]]:
    manager = deploy()
    manager.configure("keeper", "made-up-keeper", hosts={})
    with service.client() as client:
        switched_on(service, client)
        with_store(service, client)
        for name, account, password in (
            ("orlop-keeper", "keeper", "made-up-keeper"),
            ("orlop-phrase", "orlop", PHRASE),
            ("deploy", "deploy", "deploy"),
        ):
            client.add_login(NewLogin(name=name, account=account, password=password))
        client.add_system(
            NewSystem(
                name="orlop-1",
                kind="orlop-manager",
                address=manager.address,
                login="orlop-keeper",
                key=manager.fingerprint,
                settings={"passphrase": "orlop-phrase"},
            )
        )
        told = client.add_drop_login("orlop-1", NewDropLogin())
        host, _, port = told.sftp.rpartition(":")
        place = {"host": host, "port": int(port), "account": told.account, "secret": told.secret}
        manager.request("PUT", "/backups/place", {**place, "key": told.host_key, "folder": "/"})
        yield Protected(service, client, "orlop-1", manager, deploy)


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
    service: Service, install_host: Callable[..., KeelsonHost]
) -> Iterator[Protected[KeelsonHost]]:
    """A host with three machines that run, enrolled as ``keelson-1``."""
    host = install_host()
    host.configure("keelson-1", "keeper", "made-up-keeper", licence="KEEL-FULL-1")
    with service.client() as client:
        with_store(service, client)
        for name, account, password in (
            ("keelson-keeper", "keeper", "made-up-keeper"),
            ("deploy", "root", "install"),
        ):
            client.add_login(NewLogin(name=name, account=account, password=password))
        client.add_system(
            NewSystem(
                name="keelson-1",
                kind="keelson-host",
                address=host.address,
                login="keelson-keeper",
                key=host.fingerprint,
            )
        )
        yield Protected(service, client, "keelson-1", host, install_host)
