"""A Masthead server."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance_server import ApplianceServer


@dataclass
class MastheadServer(ApplianceServer):
    program: ClassVar[str] = "masthead"

    def set_up(self, name: str, *, licence: str) -> None:
        """Make a new one the monitoring of Saltmere Ferries. It runs by then."""
        for service in ("face", "core"):
            self.do("stop", service)
        self.write("/etc/masthead/licence.key", f"{licence}\n", mode=0o600)
        conf = f"[masthead]\nname = {name}\nlisten = {self.host}:9443\nkeep = 7\n"
        self.write("/etc/masthead/masthead.conf", conf)
        for plugin in ("tide", "berth"):
            path = f"/opt/masthead/plugins/{plugin}"
            self.write(path, f'#!/bin/sh\nexec ask-{plugin} "$1"\n', mode=0o755)
        with self.in_one() as do:
            for number in range(1, 9):
                do("set", "hosts", f"ferry-{number}", f"10.9.0.{number}")
                for plugin in ("alive", "tide", "berth"):
                    do("set", "checks", f"ferry-{number}/{plugin}", plugin)
            do("remove", "people", "admin")
            for person in ("m.quay", "watch"):
                do("set", "people", person, feed=f"made-up-{person}\n")
            for service in ("core", "face"):
                do("start", service)

    def state(self) -> dict[str, Any]:
        """What it is, apart from its id."""
        told = {**self.told("about"), **self.told("list")}
        del told["id"]
        return told
