"""The virtualization of Saltmere Ferries: a manager that pushes its backups, two hosts, and one new
of each sort.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from saltmere.appliance import RunningAppliance
from saltmere.keelson.machine import KeelsonHost
from saltmere.orlop.machine import OrlopMachine

DROP = "127.20.0.2:2022"
MANAGER, FRESH_MANAGER = ("orlop-1", "127.20.1.30"), ("fresh-orlop", "127.20.9.30")
HOSTS = {"keelson-1": "127.20.1.31", "keelson-2": "127.20.1.32"}
FRESH_HOST = ("fresh-keelson", "127.20.9.31")
ROUTINE = "virtualization"
_MANAGES, _ANSWERS, _SHELL = 8460, 8461, 2222  # ports
_KEEPER = "keeper"


@dataclass
class Virtualization:
    """All of it below one folder. ``secret``: makes or reads a secret by its name."""

    folder: Path
    clock: Path
    secret: Callable[[str], str]
    hosts: dict[str, KeelsonHost] = field(default_factory=dict)

    def __post_init__(self) -> None:
        name, host = MANAGER
        self.manager = OrlopMachine(self.folder / name, host, _MANAGES, clock=self.clock)
        name, host = FRESH_MANAGER
        self.fresh_manager = OrlopMachine(self.folder / name, host, _MANAGES, clock=self.clock)
        for name, host in (*HOSTS.items(), FRESH_HOST):
            self.hosts[name] = KeelsonHost(
                self.folder / name, host, _ANSWERS, clock=self.clock, shell_port=_SHELL
            )

        known = [self.manager, *(self.hosts[name] for name in HOSTS)]
        self.installed = [machine for machine in known if machine.installed]

    def all(self) -> list[RunningAppliance]:
        return [self.manager, self.fresh_manager, *self.hosts.values()]

    def start(self) -> None:
        """They run by now."""
        password = self.secret("keeper-password")
        for machine in self.installed:
            machine.account, machine.password = _KEEPER, password
        for machine in self.all():
            machine.wait()
        for number, name in enumerate(HOSTS, 1):
            host = self.hosts[name]
            if host not in self.installed:
                host.configure(name, _KEEPER, password, licence=f"KEEL-SALTMERE-{number}")
        if self.manager not in self.installed:
            hosts = {name: self.hosts[name].address for name in HOSTS}
            self.manager.configure(_KEEPER, password, hosts=hosts)

    def prepare(self, call: Callable[..., Any]) -> None:
        """Its drop, logins, systems and routine. ``call``: of the service's interface."""
        call("PATCH", "/drop", {"sftp": DROP})
        for name, account, password in (
            ("virtualization-keeper", _KEEPER, self.secret("keeper-password")),
            ("orlop-passphrase", "orlop", self.secret("orlop-passphrase")),
            ("orlop-new", "deploy", "deploy"),
            ("keelson-new", "root", "install"),
        ):
            call("POST", "/logins", {"name": name, "account": account, "password": password})
        of_manager: dict[str, object] = {
            "settings": {"passphrase": "orlop-passphrase"},
            "needs": list(HOSTS),
        }
        for name in HOSTS:
            self._enrol(call, name, "keelson-host", self.hosts[name], {})
        self._enrol(call, MANAGER[0], "orlop-manager", self.manager, of_manager)
        told = call("PUT", f"/systems/{MANAGER[0]}/drop/login", {})
        host, _, port = DROP.rpartition(":")
        place = {"host": host, "port": int(port), "folder": "/", "key": told["host_key"]}
        place |= {"account": told["account"], "secret": told["secret"]}
        self.manager.request("PUT", "/backups/place", place)

    def take_weekly(self, call: Callable[..., Any]) -> None:
        """From now on by a routine."""
        call(
            "POST",
            "/routines",
            {
                "name": ROUTINE,
                "systems": "label=virtualization",
                "when": "every monday at 03:00",
                "zone": "Europe/Oslo",
                "store": "lighthouse",
                "ladder": "everything for 30 days, monthly for 2 years, always 3",
                "copy_to": ["harbour"],
            },
        )

    def _enrol(
        self,
        call: Callable[..., Any],
        name: str,
        kind: str,
        machine: RunningAppliance,
        more: dict[str, object],
    ) -> None:
        told = {
            "name": name,
            "kind": kind,
            "address": machine.address,
            "login": "virtualization-keeper",
            "key": machine.fingerprint,
            "site": "saltmere-quay",
            "labels": ["virtualization"],
        }
        call("POST", "/systems", {**told, **more})
