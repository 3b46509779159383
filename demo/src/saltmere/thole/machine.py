"""A Thole unit as a process of its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance import RunningAppliance


@dataclass
class TholeMachine(RunningAppliance):
    program: ClassVar[str] = "saltmere.thole"
    password: str = "thole"

    def configure(self, name: str, account: str, password: str) -> None:
        """Make it the chassis manager of Saltmere Ferries."""
        for number, label in enumerate(("keelson-1", "keelson-2", "spare"), 1):
            self.request("PUT", f"/sections/slots/slot-{number}", {"label": label})
        for network, segment in (("deck-a", "110"), ("deck-b", "120")):
            told = {"segment": segment, "label": f"ferries on {network}"}
            self.request("PUT", f"/sections/networks/{network}", told)
        self.request("PUT", "/sections/power/feed-1", {"watts": "3000", "label": "quay"})
        self.request("PUT", "/name", {"name": name})
        self.request("PUT", "/administrator", {"account": account, "password": password})
        self.account, self.password = account, password

    def inventory(self) -> Any:
        return self.request("GET", "/inventory")
