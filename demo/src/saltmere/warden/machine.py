"""A Warden server."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.server_with_pages import ServerWithPages

PHRASE = "made-up-herring-7"


@dataclass
class WardenServer(ServerWithPages):
    program: ClassVar[str] = "warden"
    password: str = "warden"

    def set_up(self) -> None:
        """Make a new one the access-policy server of Saltmere Ferries."""
        with self.in_one() as do:
            for policy, rule in (
                ("crew", "crew enter the deck"),
                ("guests", "guests enter the web"),
            ):
                do("policy", policy, rule)
            for number in range(1, 7):
                do("device", f"reader-{number}", f"10.5.0.{number}")
            do("remove", "person", "admin")
            for person in ("m.quay", "watch"):
                do("person", person, feed=f"made-up-{person}\n")
            do("system", "resolver", "10.1.0.53")
            do("passphrase", feed=f"{PHRASE}\n")

    def push_to(self, host: str, port: int, account: str, secret: str, key: str) -> None:
        """Its place for backups, named ``drop``."""
        self.do("place", "drop", host, str(port), account, key, "/", feed=f"{secret}\n")

    def ended(self, limit: float = 60) -> str:
        """What came of its run."""
        ends = time.monotonic() + limit
        while (said := self.do("run").strip()) == "running":
            assert time.monotonic() < ends
            time.sleep(0.05)
        return said

    def state(self) -> Any:
        """What it decides by, and the settings of its operating system."""
        return self.told("list")
