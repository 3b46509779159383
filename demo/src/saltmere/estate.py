"""The machines of Saltmere Ferries: six are looked after, one waits, two are fresh spares, one
keeps backups.
"""

from __future__ import annotations

import json
import secrets
import socket
import subprocess
import uuid
from dataclasses import dataclass, field
from pathlib import Path

from saltmere import roles
from saltmere.appliance import RunningAppliance
from saltmere.linux import LinuxServer, save_key
from saltmere.many import start_together
from saltmere.services import Services
from saltmere.skerry import Skerry
from saltmere.virtualization import Virtualization

SSH_PORT, HTTPS_PORT = 2222, 8443

# name: (address, site, role)
LINUX = {
    "quay-web": ("127.20.1.1", "saltmere-quay", "timetable"),
    "quay-mail": ("127.20.1.2", "saltmere-quay", "mail"),
    "gannet-tickets": ("127.20.2.1", "gannet-point", "ticket"),
    "northness-watch": ("127.20.4.1", "northness", "monitoring"),
}
SKERRIES = {
    "quay-store": ("127.20.1.20", "saltmere-quay", "quay"),
    "holm-store": ("127.20.3.20", "holm-island", "holm"),
}
WAITING = ("web-9", "127.20.9.1", "booking")
DEPOT = ("gannet-depot", "127.20.2.9")  # a machine that only keeps backups, reached by SFTP
DEPOT_FOLDER = "/srv/fennox"
FRESH_LINUX = ("fresh-linux", "127.20.9.2")
SPARE = ("spare-1", "127.20.9.4")  # it may be overwritten: restores are practised on it
FRESH_SKERRY = ("fresh-skerry", "127.20.9.3")
ADMINISTRATOR = "keeper"


@dataclass
class Estate:
    """All machines below one folder."""

    folder: Path
    clock: Path
    linux: dict[str, LinuxServer] = field(default_factory=dict)
    skerries: dict[str, Skerry] = field(default_factory=dict)
    virtualization: Virtualization = field(init=False)
    services: Services = field(init=False)
    _together: subprocess.Popen[bytes] | None = None

    def __post_init__(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        self.root_key, self._root_public = save_key(self.folder, "quay-root")
        self.fresh_key, self._fresh_public = save_key(self.folder, "fresh-root")
        self.skerry_password = self._secret("skerry-password")
        for name, address in [(n, a) for n, (a, _, _) in LINUX.items()] + [
            WAITING[:2],
            FRESH_LINUX,
            SPARE,
            DEPOT,
        ]:
            self.linux[name] = LinuxServer(self.folder / name, address, SSH_PORT)
        for name, address in [(n, a) for n, (a, _, _) in SKERRIES.items()] + [FRESH_SKERRY]:
            self.skerries[name] = Skerry(self.folder / name, address, HTTPS_PORT, clock=self.clock)
        self.virtualization = Virtualization(self.folder, self.clock, self._secret)
        keys = (self._root_public, self._fresh_public)
        self.services = Services(self.folder, self.clock, *keys, self._secret)

    def _secret(self, name: str) -> str:
        path = self.folder / name
        if not path.exists():
            path.touch(0o600)
            path.write_text(secrets.token_urlsafe(12))
        return path.read_text()

    def _appliances(self) -> list[RunningAppliance]:
        """Those with an HTTPS interface."""
        return [*self.skerries.values(), *self.virtualization.all(), *self.services.machines()]

    def taken_ports(self) -> list[str]:
        """Addresses of ours at which something else already answers."""
        servers = [*self.linux.values(), *self.services.all()]
        places = [(server.host, server.port) for server in servers]
        places += [(appliance.host, appliance.port) for appliance in self._appliances()]
        return [f"{host}:{port}" for host, port in places if answers(host, port)]

    def start(self) -> None:
        """Install what is not installed yet, and start everything."""
        for name, appliance in self.skerries.items():
            fresh = not appliance.installed
            if not fresh and name in SKERRIES:
                appliance.account, appliance.password = ADMINISTRATOR, self.skerry_password
        self._together = start_together(self._appliances())
        for name, server in self.linux.items():
            if not server.installed:
                self._install(name, server)
            server.start()
        for name, appliance in self.skerries.items():
            appliance.wait()
            if name in SKERRIES and appliance.account == "admin":
                appliance.configure(SKERRIES[name][2], ADMINISTRATOR, self.skerry_password)
        self.services.start(self.linux[DEPOT[0]])
        self.virtualization.start()

    def _install(self, name: str, server: LinuxServer) -> None:
        if name in (FRESH_LINUX[0], SPARE[0]):
            self._install_fresh(server)
            return
        server.install(name, self._root_public)
        _equip(server, _STATIC.format(address=server.host), "/srv/data")
        if name == DEPOT[0]:
            (server.folder / DEPOT_FOLDER.lstrip("/")).mkdir(parents=True)
            return
        role = WAITING[2] if name == WAITING[0] else LINUX[name][2]
        server.configure(role, files=200 if name == WAITING[0] else 0)
        roles.furnish(server, name, role)

    def reinstall(self, name: str) -> None:
        """The boot disk has failed: the same address, a bare system, the installer's key."""
        server = self.linux[name]
        server.lose()
        self._install_fresh(server)
        server.start()

    def _install_fresh(self, server: LinuxServer) -> None:
        server.install("debian", self._fresh_public)
        _equip(server, _DHCP)

    def stop(self) -> None:
        for server in self.linux.values():
            server.stop()
        for appliance in self.skerries.values():
            appliance.stop()
        self.services.stop()
        if self._together is not None:
            self._together.kill()
            self._together.wait()


_STATIC = """auto eth0
iface eth0 inet static
    address {address}/16
    gateway 127.20.0.1
"""
_DHCP = "auto enp1s0\niface enp1s0 inet dhcp\n"


def _equip(server: LinuxServer, interfaces: str, data: str = "") -> None:
    """Every machine has disks of its own and its own way into the network."""
    server.write("/etc/network/interfaces", interfaces)
    rows = [("/", "errors=remount-ro", 1)] + ([(data, "noatime,nofail", 2)] if data else [])
    lines = [f"UUID={uuid.uuid4()} {at} ext4 {options} 0 {order}\n" for at, options, order in rows]
    server.write("/etc/fstab", "".join(lines))


def answers(host: str, port: int) -> bool:
    with socket.socket() as probe:
        probe.settimeout(1)
        return probe.connect_ex((host, port)) == 0


def remember(path: Path, values: dict[str, object]) -> None:
    path.write_text(json.dumps(values, indent=1))
    path.chmod(0o600)
