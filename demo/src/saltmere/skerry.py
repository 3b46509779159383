"""A Skerry appliance as a process of its own."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from saltmere.appliance import RunningAppliance


@dataclass
class Skerry(RunningAppliance):
    program: ClassVar[str] = "saltmere.storage"
    about: ClassVar[str] = "/api/about"
    data: Path | None = None
    version: str = ""

    def further(self) -> list[str]:
        words = ["--data", str(self.data)] if self.data is not None else []
        return words + (["--version", self.version] if self.version else [])

    def configure(self, role: str, account: str, password: str, *, users: int = 6) -> None:
        """Make it the appliance that Saltmere Ferries has set up."""
        for pool in ("deck", "hold"):
            self.request("PUT", f"/api/pools/{pool}", {"disks": 4})
        for share in ("timetables", "vessels", "crew", f"{role}-archive"):
            self.request("PUT", f"/api/shares/{share}", {"pool": "hold", "readers": "office"})
        for number in range(users):
            self.request(
                "PUT",
                f"/api/users/{role}-{number:02}",
                {"quota": 50, "password": f"made-up-{role}-{number}"},
            )
        self.request("PUT", "/api/services/snapshots", {"enabled": True})
        network = {"host": self.host, "port": self.port, "name": f"{role}-store"}
        self.request("PUT", "/api/network", network)
        self.request("PUT", "/api/administrator", {"account": account, "password": password})
        self.account, self.password = account, password

    def add_volumes(self) -> None:
        """One in clear, and one that is sealed."""
        for volume, sealed in (("charts", False), ("crew-files", True)):
            self.request("PUT", f"/api/volumes/{volume}", {"sealed": sealed})

    @property
    def disks(self) -> Path:
        """Where its volumes lie: they may be put into another appliance."""
        return self.data or self.folder.with_name(f"{self.folder.name}-data")
