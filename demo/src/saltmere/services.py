"""What Saltmere Ferries watches, records and hands out addresses with: appliances that are reached
by SSH, and one new of each sort.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from saltmere.appliance_server import ApplianceServer
from saltmere.beacon.machine import BeaconServer
from saltmere.gullery.machine import GulleryServer
from saltmere.linux import LinuxServer
from saltmere.masthead.machine import MastheadServer
from saltmere.tideway.machine import TidewayServer
from saltmere.warden.machine import PHRASE, WardenServer
from saltmere.watchbill.machine import WatchbillServer

SSH_PORT = 2222
ROUTINE = "appliances"
LICENCE = "MAST-25-SALTMERE"

# name: (address, site, kind, of the sort)
APPLIANCES: dict[str, tuple[str, str, str, type[ApplianceServer]]] = {
    "masthead-1": ("127.20.4.10", "northness", "masthead-server", MastheadServer),
    "watchbill-1": ("127.20.1.41", "saltmere-quay", "watchbill-server", WatchbillServer),
    "tideway-1": ("127.20.1.42", "saltmere-quay", "tideway-server", TidewayServer),
    "beacon-1": ("127.20.1.43", "saltmere-quay", "beacon-recorder", BeaconServer),
    "gullery-1": ("127.20.1.44", "saltmere-quay", "gullery-controller", GulleryServer),
    "warden-1": ("127.20.1.45", "saltmere-quay", "warden-server", WardenServer),
}


@dataclass
class Services:
    """All of them below one folder; ``fresh``: new ones by their kinds."""

    folder: Path
    clock: Path
    root_public: str
    fresh_public: str
    servers: dict[str, ApplianceServer] = field(default_factory=dict)
    fresh: dict[str, ApplianceServer] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for number, (name, (host, _, kind, sort)) in enumerate(APPLIANCES.items(), 40):
            folder = self.folder / name
            self.servers[name] = sort(folder, host, SSH_PORT, clock=self.clock)
            folder = self.folder / f"fresh-{sort.program}"
            at = f"127.20.9.{number}"
            self.fresh[kind] = sort(folder, at, SSH_PORT, clock=self.clock)

    def all(self) -> list[ApplianceServer]:
        return [*self.servers.values(), *self.fresh.values()]

    def start(self, standby: LinuxServer) -> None:
        """``standby``: where the controller of collectors sends its commits."""
        for server in self.fresh.values():
            if not server.installed:
                server.install(f"fresh-{server.program}", self.fresh_public)
            server.start()
        for name, server in self.servers.items():
            new = not server.installed
            if new:
                server.install(name, self.root_public)
            server.start()
            if new:
                self._set_up(name, server, standby)

    def _set_up(self, name: str, server: ApplianceServer, standby: LinuxServer) -> None:
        match server:
            case MastheadServer():
                server.set_up(name, licence=LICENCE)
            case GulleryServer():
                server.set_up()
                server.send_to(standby)
            case WatchbillServer() | TidewayServer() | BeaconServer() | WardenServer():
                server.set_up()

    def enrol(self, call: Callable[..., Any]) -> None:
        """Its systems, by the logins of the estate's servers. ``call``: of the service's
        interface; its drop is on.
        """
        phrase = {"name": "warden-passphrase", "account": "warden", "password": PHRASE}
        call("POST", "/logins", phrase)
        for name, (_, site, kind, _) in APPLIANCES.items():
            told = {
                "name": name,
                "kind": kind,
                "address": self.servers[name].address,
                "login": "ferry-root",
                "key": self.servers[name].host_key,
                "site": site,
                "labels": ["appliance"],
            }
            server = self.servers[name]
            if isinstance(server, WardenServer):
                call("POST", "/systems", {**told, "settings": {"passphrase": phrase["name"]}})
                told = call("PUT", f"/systems/{name}/drop/login", {})
                host, _, port = told["sftp"].rpartition(":")
                server.push_to(host, int(port), told["account"], told["secret"], told["host_key"])
            else:
                call("POST", "/systems", told)

    def take_weekly(self, call: Callable[..., Any]) -> None:
        """From now on by a routine."""
        call(
            "POST",
            "/routines",
            {
                "name": ROUTINE,
                "systems": "label=appliance",
                "when": "every monday at 03:10",
                "zone": "Europe/Oslo",
                "store": "lighthouse",
                "ladder": "everything for 30 days, monthly for 2 years, always 3",
            },
        )

    def exceed_licence(self) -> None:
        """More checks than the licence covers; nobody is told but whoever reads a backup."""
        for number in range(3):
            self.servers["masthead-1"].do("set", "checks", f"ferry-1/more-{number}", "alive")

    def forget_to_send(self) -> None:
        """A commit that is on this server alone."""
        controller = self.servers["gullery-1"]
        controller.do("set", "ice", "every 600 s", "m.quay", "winter is coming")
        controller.do("key", "ice", feed="made-up-key-of-ice\n")

    def stop(self) -> None:
        for server in self.all():
            server.stop()
