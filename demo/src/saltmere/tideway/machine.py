"""A Tideway server."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance_server import ApplianceServer


@dataclass
class TidewayServer(ApplianceServer):
    program: ClassVar[str] = "tideway"

    def authorise(self) -> None:
        """What the directory's administrators do."""
        self.append("/etc/tideway/authorised", f"{self.told('about')['id']}\n")

    def set_up(self) -> None:
        """Make a new one the address server of Saltmere Ferries, with two clients."""
        self.authorise()
        with self.in_one() as do:
            for number, scope in enumerate(("deck", "desks", "berths"), 7):
                do("scope", scope, f"10.{number}.0.10", f"10.{number}.0.99")
                do("option", scope, "router", f"10.{number}.0.1")
                do("reserve", scope, f"10.{number}.0.20", f"02:00:00:00:{number:02}:20")
            do("option", "deck", "domain", "saltmere.example")
            do("serve", "on")
            for hardware in ("02:00:00:00:07:41", "02:00:00:00:07:42"):
                do("lease", "deck", hardware)

    def state(self) -> Any:
        """What it manages, apart from its clients."""
        told = self.told("list")
        del told["clients"]
        return {**told, "serves": self.told("about")["serves"]}
