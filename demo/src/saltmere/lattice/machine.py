"""A Lattice cluster as a process of its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance import RunningAppliance

MEMBERS = ("lattice-1", "lattice-2", "lattice-3")


@dataclass
class LatticeMachine(RunningAppliance):
    program: ClassVar[str] = "saltmere.lattice"
    password: str = "lattice"

    def configure(self, name: str, account: str, password: str) -> None:
        """Make it the network manager of Saltmere Ferries."""
        self.name_members()
        for number, network in enumerate(("deck", "desks", "berths"), 1):
            self.request("PUT", f"/networks/{network}", {"vlan": number * 10})
            self.request("PUT", f"/devices/switch-{number}", {"network": network})
        self.request("PUT", "/name", {"name": name})
        self.request("PUT", "/administrator", {"account": account, "password": password})
        self.account, self.password = account, password

    def name_members(self) -> None:
        """Its members get the names that they are known by, at addresses of their own."""
        for number, member in enumerate(MEMBERS, 1):
            self.request("PUT", f"/members/{member}", {"address": f"{self.host}:{7440 + number}"})
            self.request("DELETE", f"/members/node-{number}")
        self.request("POST", f"/members/{MEMBERS[0]}/activate")

    def push_to(self, host: str, port: int, account: str, secret: str) -> None:
        place = {"host": host, "port": port, "account": account, "secret": secret}
        self.request("PUT", "/place", {**place, "folder": "/"})

    def inventory(self) -> Any:
        return self.request("GET", "/inventory")
