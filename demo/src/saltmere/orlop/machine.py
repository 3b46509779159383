"""An Orlop deployment as a process of its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from saltmere.appliance import RunningAppliance


@dataclass
class OrlopMachine(RunningAppliance):
    program: ClassVar[str] = "saltmere.orlop"
    account: str = "deploy"
    password: str = "deploy"

    def configure(self, account: str, password: str, *, hosts: dict[str, str]) -> None:
        """Make it the manager that Saltmere Ferries has set up. ``hosts``: addresses by name."""
        self.request("POST", "/setup/begin")
        for name, address in hosts.items():
            self.request("PUT", f"/hosts/{name}", {"address": address})
        self.request("PUT", "/groups/harbour", {"hosts": sorted(hosts)})
        for role, may in (("watch", ["look"]), ("operators", ["look", "start", "stop"])):
            self.request("PUT", f"/roles/{role}", {"may": may})
        for person, role in (("m.quay", "operators"), ("j.holm", "watch"), ("r.pier", "watch")):
            told = {"role": role, "password": f"made-up-{person}"}
            self.request("PUT", f"/people/{person}", told)
        self.request("PUT", "/labels/ticketing", {"on": sorted(hosts)[:1]})
        for switch, segments in (
            ("fleet", {"deck-a": 110, "deck-b": 120}),
            ("offices", {"desks": 210, "printers": 220, "guests": 230}),
        ):
            shared = {"segments": segments, "hosts": sorted(hosts)}
            self.request("PUT", f"/switches/{switch}", shared)
        network = {"host": self.host, "port": self.port, "name": "orlop-1"}
        self.request("PUT", "/network", network)
        self.request("PUT", "/administrator", {"account": account, "password": password})
        self.account, self.password = account, password
