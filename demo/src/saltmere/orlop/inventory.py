"""What Orlop manages, as a log of changes that is read again at every start."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

PRODUCT, VERSION, BUILD = "orlop", "7.2", "7.2-3140"
LISTS = ("hosts", "groups", "roles", "people", "labels", "switches")


@dataclass
class Inventory:
    """In memory; each change is a line of the log first."""

    folder: Path
    now: Callable[[], float]
    lists: dict[str, dict[str, Any]] = field(default_factory=lambda: {one: {} for one in LISTS})
    settings: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        if self._log.exists():
            for line in self._log.read_text().splitlines():
                self._apply(json.loads(line))

    @property
    def _log(self) -> Path:
        return self.folder / "changes.log"

    @property
    def is_new(self) -> bool:
        return not self._log.exists()

    def change(self, who: str, table: str, name: str, value: Any) -> None:
        """``value`` None: it is gone."""
        told = {"table": table, "name": name, "value": value}
        with self._log.open("a") as log:
            log.write(json.dumps(told) + "\n")
        self._apply(told)
        what = "removed" if value is None else "changed"
        self.remember(f"{who} {what} {table} {name}")

    def _apply(self, told: dict[str, Any]) -> None:
        table, name, value = told["table"], told["name"], told["value"]
        held = self.settings if table == "settings" else self.lists[table]
        if value is None:
            held.pop(name, None)
        else:
            held[name] = value

    def remember(self, said: str) -> None:
        with (self.folder / "history.log").open("a") as log:
            log.write(f"{self.now():.0f} {said}\n")

    def history(self) -> str:
        path = self.folder / "history.log"
        return path.read_text() if path.exists() else ""

    def content(self) -> dict[str, Any]:
        """Everything that a backup holds; not the id of the deployment."""
        mine = {name: value for name, value in self.settings.items() if name in LOADED}
        return {"lists": self.lists, "settings": mine}

    def replace(self, content: dict[str, Any], history: str) -> None:
        """By what a backup holds. The log is written anew in one step."""
        for table in LISTS:
            self.lists[table] = dict(content["lists"][table])
        self.settings |= content["settings"]
        lines = [
            {"table": table, "name": name, "value": value}
            for table, held in (*self.lists.items(), ("settings", self.settings))
            for name, value in held.items()
        ]
        fresh = self._log.with_suffix(".new")
        fresh.write_text("".join(json.dumps(line) + "\n" for line in lines))
        if history:
            (self.folder / "history.log").write_text(history)
        fresh.replace(self._log)

    def shown(self) -> dict[str, Any]:
        """Without passwords."""
        told = {table: _named(held) for table, held in self.lists.items()}
        told["people"] = [{"name": one["name"], "role": one["role"]} for one in told["people"]]
        for switch in told["switches"]:
            segments = sorted(switch["segments"].items())
            switch["segments"] = [{"name": name, "number": number} for name, number in segments]
        return {
            **told,
            "administrator": self.settings["administrator"]["account"],
            "schedule": {
                name: value
                for name, value in self.settings.get("schedule", {}).items()
                if name != "passphrase"
            },
        }

    def set_administrator(self, who: str, account: str, password: str) -> None:
        salt = secrets.token_hex(16)
        told = {"account": account, "salt": salt, "hash": _hash(password, salt)}
        self.change(who, "settings", "administrator", told)

    def may_enter(self, account: str, password: str) -> bool:
        known = self.settings["administrator"]
        right = secrets.compare_digest(_hash(password, known["salt"]), known["hash"])
        return right and secrets.compare_digest(account, known["account"])


def _named(held: dict[str, Any]) -> list[dict[str, Any]]:
    return [{"name": name, **held[name]} for name in sorted(held)]


LOADED = ("administrator", "network", "place", "schedule")


def _hash(password: str, salt: str) -> str:
    return hashlib.scrypt(password.encode(), salt=salt.encode(), n=1024, r=8, p=1).hex()
