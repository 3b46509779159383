"""A Keelson host as a process of its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from saltmere.appliance import RunningAppliance


@dataclass
class KeelsonHost(RunningAppliance):
    program: ClassVar[str] = "saltmere.keelson"
    about: ClassVar[str] = "/host"
    account: str = "root"
    password: str = "install"
    shell_port: int = 2222
    partition: int = 32
    build: str = ""

    def further(self) -> list[str]:
        words = ["--shell-port", str(self.shell_port), "--partition", str(self.partition)]
        return words + (["--build", self.build] if self.build else [])

    def configure(self, name: str, account: str, password: str, *, licence: str) -> None:
        """Make it a host as Saltmere Ferries has them."""
        for store, sealed in (("fast", False), ("vault", True)):
            self.request("PUT", f"/stores/{store}", {"device": f"disk-{store}", "sealed": sealed})
        for network, segment in (("deck-a", 110), ("deck-b", 120), ("desks", 210)):
            self.request("PUT", f"/networks/{network}", {"switch": "fleet", "segment": segment})
        for number, machine in enumerate(("tickets", "timetable", "berths")):
            self.request("PUT", f"/machines/{machine}", {"store": "fast", "starts": number})
            self.request("PUT", f"/machines/{machine}/power", {"on": True})
        self.request("PUT", "/rules/management", {"opens": "443 from 10.20.0.0/16"})
        self.request("PUT", "/people/m.quay", {"password": "made-up-m.quay"})
        self.request("PUT", "/licence", {"key": licence})
        answers = {"host": self.host, "port": self.port, "name": name}
        self.request("PUT", "/network", answers)
        self.request("PUT", "/administrator", {"account": account, "password": password})
        self.account, self.password = account, password

    def settings(self) -> dict[str, object]:
        told = self.request("GET", "/settings")
        assert isinstance(told, dict)
        return told
