"""A Watchbill server."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance_server import ApplianceServer


@dataclass
class WatchbillServer(ApplianceServer):
    program: ClassVar[str] = "watchbill"
    family: str = "shoal"
    version: str = "4.8.2"

    def install(self, name: str, authorised_key: str) -> None:
        super().install(name, authorised_key)
        self.write("/etc/watchbill-family", f"{self.family}\n")
        self.write("/etc/watchbill-version", f"{self.version}\n")

    @property
    def home(self) -> str:
        """Where its state lies."""
        return "/var/lib/watchbill" if self.family == "shoal" else "/opt/watchbill/state"

    def set_up(self) -> None:
        """Make a new one the second monitoring of Saltmere Ferries."""
        with self.in_one() as do:
            for check in ("tide", "berth"):
                do("check", check, f"ask-{check}")
            for number in range(1, 7):
                do("host", f"pier-{number}", f"10.8.0.{number}")
                for check in ("alive", "tide", "berth"):
                    do("link", f"pier-{number}", check)
            do("remove", "person", "watch")
            for person in ("m.quay", "night-watch"):
                do("person", person, feed=f"made-up-{person}\n")

    def state(self) -> Any:
        """All that it manages, and by which name it goes."""
        return {"name": json.loads(self.do("about"))["name"], **self.told("list")}
