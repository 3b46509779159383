"""A Hailer installation as a process of its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance import RunningAppliance

COMPONENTS = ["mailboxes", "greetings", "routes"]


@dataclass
class HailerMachine(RunningAppliance):
    program: ClassVar[str] = "saltmere.hailer"
    password: str = "hailer"

    def configure(self, name: str, account: str, password: str) -> None:
        """Make it the voice mail of Saltmere Ferries."""
        for number, person in enumerate(("brannagh", "oyelaran", "tveit", "quayside"), 41):
            self.request("PUT", f"/mailboxes/{person}", {"pin": f"{number}{number}"})
            sound = {"greeting": person, "sound": "made up " * (number * 40)}
            self.request("PUT", f"/greetings/{person}", sound)
        self.request("DELETE", "/mailboxes/operator")
        for route, leads in (("tickets", "quayside"), ("bridge", "tveit")):
            self.request("PUT", f"/routes/{route}", {"to": leads})
        self.request("PUT", "/name", {"name": name})
        self.request("PUT", "/administrator", {"account": account, "password": password})
        self.account, self.password = account, password

    def inventory(self) -> Any:
        return self.request("GET", "/inventory")
