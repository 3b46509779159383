"""What Saltmere Ferries watches, records, calls and hands out addresses with: appliances, and one
new of each sort.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from saltmere.appliance import RunningAppliance
from saltmere.appliance_server import ApplianceServer
from saltmere.beacon.machine import BeaconServer
from saltmere.fender.machine import FenderServer
from saltmere.gullery.machine import GulleryServer
from saltmere.hailer.machine import HailerMachine
from saltmere.kelp.machine import KelpServer, join
from saltmere.lattice.machine import LatticeMachine
from saltmere.linux import LinuxServer
from saltmere.logline.machine import LoglineMachine
from saltmere.masthead.machine import MastheadServer
from saltmere.server_with_pages import PAGES_PORT, ServerWithPages
from saltmere.thole.machine import TholeMachine
from saltmere.tideway.machine import TidewayServer
from saltmere.warden.machine import PHRASE, WardenServer
from saltmere.watchbill.machine import WatchbillServer

SSH_PORT, CALLS_PORT, CHASSIS_PORT, LOG_PORT, NETWORK_PORT = 2222, 8462, 8463, 8464, 8465
VOICE_MAIL, FRESH_VOICE_MAIL = ("hailer-1", "127.20.1.46"), ("fresh-hailer", "127.20.9.56")
CHASSIS, FRESH_CHASSIS = ("thole-1", "127.20.1.47"), ("fresh-thole", "127.20.9.57")
LOGS, FRESH_LOGS = ("logline-1", "127.20.1.49"), ("fresh-logline", "127.20.9.59")
NETWORKS, FRESH_NETWORKS = ("lattice", "127.20.1.53"), ("fresh-lattice", "127.20.9.60")
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
    "fender-1": ("127.20.1.48", "saltmere-quay", "fender-manager", FenderServer),
    "kelp-1": ("127.20.1.50", "saltmere-quay", "kelp-member", KelpServer),
    "kelp-2": ("127.20.1.51", "saltmere-quay", "kelp-member", KelpServer),
    "kelp-3": ("127.20.4.52", "northness", "kelp-member", KelpServer),
}


@dataclass
class Services:
    """All of them below one folder; ``fresh``: new ones by their kinds."""

    folder: Path
    clock: Path
    root_public: str
    fresh_public: str
    secret: Callable[[str], str]
    servers: dict[str, ApplianceServer] = field(default_factory=dict)
    fresh: dict[str, ApplianceServer] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for number, (name, (host, _, kind, sort)) in enumerate(APPLIANCES.items(), 40):
            self.servers[name] = self._server(sort, name, host)
            if kind not in self.fresh:
                at = f"127.20.9.{number}"
                self.fresh[kind] = self._server(sort, f"fresh-{sort.program}", at)

        name, host = VOICE_MAIL
        self.hailer = HailerMachine(self.folder / name, host, CALLS_PORT, clock=self.clock)
        self.calls_already = self.hailer.installed
        name, host = FRESH_VOICE_MAIL
        self.fresh_hailer = HailerMachine(self.folder / name, host, CALLS_PORT, clock=self.clock)
        name, host = CHASSIS
        self.thole = TholeMachine(self.folder / name, host, CHASSIS_PORT, clock=self.clock)
        name, host = FRESH_CHASSIS
        self.fresh_thole = TholeMachine(self.folder / name, host, CHASSIS_PORT, clock=self.clock)

        self.logline = self._logline(*LOGS, self.root_public)
        self.fresh_logline = self._logline(*FRESH_LOGS, self.fresh_public)
        name, host = NETWORKS
        self.lattice = LatticeMachine(self.folder / name, host, NETWORK_PORT, clock=self.clock)
        name, host = FRESH_NETWORKS
        folder = self.folder / name
        self.fresh_lattice = LatticeMachine(folder, host, NETWORK_PORT, clock=self.clock)

    def _server(self, sort: type[ApplianceServer], name: str, host: str) -> ApplianceServer:
        made = sort(self.folder / name, host, SSH_PORT, clock=self.clock)
        if isinstance(made, KelpServer):  # in its repair mode the installer's login works
            made.repair_key = self.fresh_public
        return made

    def _logline(self, name: str, host: str, key: str) -> LoglineMachine:
        return LoglineMachine(
            self.folder / name,
            host,
            LOG_PORT,
            clock=self.clock,
            shell_port=SSH_PORT,
            authorised_key=key,
        )

    def machines(self) -> list[RunningAppliance]:
        """Those with an HTTPS interface, which run before the others are started."""
        hailers, tholes = [self.hailer, self.fresh_hailer], [self.thole, self.fresh_thole]
        lattices = [self.lattice, self.fresh_lattice]
        return [*hailers, *tholes, *self._loglines(), *lattices]

    def _loglines(self) -> list[LoglineMachine]:
        return [self.logline, self.fresh_logline]

    def all(self) -> list[ApplianceServer]:
        return [*self.servers.values(), *self.fresh.values()]

    def start(self, standby: LinuxServer) -> None:
        """``standby``: where the controller of collectors sends its commits."""
        password = self.secret("keeper-password")
        if self.calls_already:
            for known in (self.hailer, self.thole, self.logline, self.lattice):
                known.account, known.password = "keeper", password
        for log_server in self._loglines():
            log_server.start_shell()
        for machine in self.machines():
            machine.wait()
        if not self.calls_already:
            self.hailer.configure(VOICE_MAIL[0], "keeper", password)
            self.thole.configure(CHASSIS[0], "keeper", password)
            self.logline.configure(LOGS[0], "keeper", password)
            self.lattice.configure(NETWORKS[0], "keeper", password)
        for server in self.fresh.values():
            if not server.installed:
                server.install(f"fresh-{server.program}", self.fresh_public)
            server.start()
        new = False
        for name, server in self.servers.items():
            new = not server.installed
            if new:
                server.install(name, self.root_public)
            server.start()
            if new:
                self._set_up(name, server, standby)
        members = [server for server in self.servers.values() if isinstance(server, KelpServer)]
        if new:
            members[0].set_up()
            join(members)
            for member in members:
                member.save_now()

    def _set_up(self, name: str, server: ApplianceServer, standby: LinuxServer) -> None:
        match server:
            case MastheadServer():
                server.set_up(name, licence=LICENCE)
            case GulleryServer():
                server.set_up()
                server.send_to(standby)
            case WatchbillServer() | TidewayServer() | BeaconServer():
                server.set_up()
            case WardenServer() | FenderServer():
                server.set_up()
                server.set_administrator("keeper", self.secret("keeper-password"))

    def enrol(self, call: Callable[..., Any]) -> None:
        """Its systems, by the logins of the estate's servers. ``call``: of the service's
        interface; its drop is on.
        """
        phrase = {"name": "warden-passphrase", "account": "warden", "password": PHRASE}
        call("POST", "/logins", phrase)
        self._enrol_machine(call, CHASSIS[0], "thole-chassis", self.thole)
        call("POST", "/logins", {"name": "thole-new", "account": "admin", "password": "thole"})
        settings = {"shell-login": "ferry-root", "shell-port": str(SSH_PORT)}
        self._enrol_machine(call, LOGS[0], "logline-server", self.logline, settings)
        call("POST", "/logins", {"name": "logline-new", "account": "admin", "password": "logline"})
        self._enrol_voice_mail(call)
        self._enrol_networks(call)
        for name, (_, site, kind, _) in APPLIANCES.items():
            told: dict[str, Any] = {
                "name": name,
                "kind": kind,
                "address": self.servers[name].address,
                "login": "ferry-root",
                "key": self.servers[name].host_key,
                "site": site,
                "labels": ["appliance"],
            }
            server = self.servers[name]
            if isinstance(server, ServerWithPages):
                new = {"name": f"{server.program}-new", "account": "admin"}
                call("POST", "/logins", {**new, "password": server.program})
                pages = {"pages-login": "virtualization-keeper", "pages-port": str(PAGES_PORT)}
                told["settings"] = pages
            if isinstance(server, WardenServer):
                told["settings"] |= {"passphrase": phrase["name"]}
                call("POST", "/systems", told)
                told = call("PUT", f"/systems/{name}/drop/login", {})
                host, _, port = told["sftp"].rpartition(":")
                server.push_to(host, int(port), told["account"], told["secret"], told["host_key"])
            else:
                call("POST", "/systems", told)

    def _enrol_machine(
        self,
        call: Callable[..., Any],
        name: str,
        kind: str,
        machine: RunningAppliance,
        settings: dict[str, str] | None = None,
    ) -> None:
        told = {
            "name": name,
            "kind": kind,
            "address": machine.address,
            "login": "virtualization-keeper",
            "key": machine.fingerprint,
            "site": "saltmere-quay",
            "labels": ["appliance"],
            "settings": settings or {},
        }
        call("POST", "/systems", told)

    def _enrol_voice_mail(self, call: Callable[..., Any]) -> None:
        name = VOICE_MAIL[0]
        call("POST", "/logins", {"name": "hailer-new", "account": "admin", "password": "hailer"})
        self._enrol_machine(call, name, "hailer-voice-mail", self.hailer)
        made = call("PUT", f"/systems/{name}/drop/login", {})
        host, _, port = made["sftp"].rpartition(":")
        place = {"host": host, "port": int(port), "folder": "/", "key": made["host_key"]}
        place |= {"account": made["account"], "secret": made["secret"]}
        self.hailer.request("PUT", "/place", place)

    def _enrol_networks(self, call: Callable[..., Any]) -> None:
        name = NETWORKS[0]
        call("POST", "/logins", {"name": "lattice-new", "account": "admin", "password": "lattice"})
        self._enrol_machine(call, name, "lattice-cluster", self.lattice)
        made = call("PUT", f"/systems/{name}/drop/login", {})
        host, _, port = made["sftp"].rpartition(":")
        self.lattice.push_to(host, int(port), made["account"], made["secret"])

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
        """More checks than the licence covers. Only the findings of a backup show it."""
        for number in range(3):
            self.servers["masthead-1"].do("set", "checks", f"ferry-1/more-{number}", "alive")

    def forget_to_send(self) -> None:
        """A commit that is on this server alone."""
        controller = self.servers["gullery-1"]
        controller.do("set", "ice", "every 600 s", "m.quay", "winter is coming")
        controller.do("key", "ice", feed="made-up-key-of-ice\n")

    def flood(self) -> None:
        """Somebody tidies up networks, and each change is pushed. Nothing is pushed afterwards."""
        self.lattice.request("PUT", "/schedule", {"on": "change"})
        for number in range(12):
            self.lattice.request("POST", f"/members/lattice-{number % 3 + 1}/activate")
            self.lattice.request("PUT", f"/networks/pier-{number}", {"vlan": 200 + number})
        self.lattice.request("PUT", "/schedule", {})

    def fall_behind(self) -> None:
        """One member of the directory meets nobody any more, and one night's save is cut short."""
        members = [server for server in self.servers.values() if isinstance(server, KelpServer)]
        members[2].do("alone")
        members[0].do("set", "crew/dora", "cook")
        members[1].do("clock")
        members[1].cut_save_short()

    def stop(self) -> None:
        for server in [*self.all(), *(one.server for one in self._loglines())]:
            server.stop()
