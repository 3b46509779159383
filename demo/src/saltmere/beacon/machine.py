"""A Beacon server."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance_server import ApplianceServer


@dataclass
class BeaconServer(ApplianceServer):
    program: ClassVar[str] = "beacon"

    def set_up(self) -> None:
        """Make a new one the recorder of Saltmere Ferries."""
        with self.in_one() as do:
            for number, pier in enumerate(("quay", "gannet", "holm", "northness"), 1):
                do("device", f"{pier}-pier", f"10.6.0.{number}", feed=f"made-up-{pier}\n")
            do("remove", "user", "admin")
            for user in ("m.quay", "watch"):
                do("user", user, feed=f"made-up-{user}\n")

    def take_recordings_of(self, other: BeaconServer) -> None:
        """The disk of recordings is moved here."""
        shutil.copytree(
            other.folder / "srv/recordings", self.folder / "srv/recordings", dirs_exist_ok=True
        )

    def state(self) -> Any:
        """What it manages, and whether it records."""
        return {**self.told("list"), "records": self.told("about")["records"]}
