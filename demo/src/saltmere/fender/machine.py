"""A Fender server."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere import postgres
from saltmere.server_with_pages import ServerWithPages


@dataclass
class FenderServer(ServerWithPages):
    program: ClassVar[str] = "fender"
    password: str = "fender"

    def set_up(self) -> None:
        """Make a new one the endpoint manager of Saltmere Ferries."""
        with self.in_one() as do:
            for policy, rule in (("tills", "tickets alone"), ("desks", "mail and tickets")):
                do("policy", policy, rule)
            for number in range(1, 5):
                do("endpoint", f"till-{number}", "tills")
            do("remove", "person", "admin")
            for person in ("m.quay", "watch"):
                do("person", person, feed=f"made-up-{person}\n")

    def move_to_postgresql(self) -> None:
        """A PostgreSQL is installed, and its objects lie there from then on."""
        postgres.install(self)
        for step in ("prepare", "copy", "switch"):
            self.do("move", step)

    def reach_endpoints_of(self, other: FenderServer) -> None:
        """The endpoints are the same, and look for their server here now."""
        shutil.copytree(
            other.folder / "srv/endpoints", self.folder / "srv/endpoints", dirs_exist_ok=True
        )

    def state(self) -> Any:
        """What it manages, and by which key."""
        told = self.told("about")
        return {**self.told("list"), "key": told["key"], "runs": told["runs"]}
