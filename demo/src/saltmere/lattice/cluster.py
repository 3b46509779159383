"""What a cluster keeps, and the file that it travels in."""

from __future__ import annotations

import json
import secrets
from pathlib import Path
from typing import Any

from saltmere.certificates import make_certificate
from saltmere.sftp_place import Refused

PRODUCT, VERSION = "lattice", "7.1"
SORTS = ("networks", "devices", "members")
Table = dict[str, dict[str, Any]]


class Cluster:
    """``folder``: a JSON file for each thing that it knows."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def install(self) -> None:
        if (self.folder / "id.json").exists():
            return
        self.folder.mkdir(parents=True, exist_ok=True)
        id_ = f"LAT-{secrets.token_hex(5)}"
        members = {f"node-{number}": {"address": f"192.0.2.{number}"} for number in (1, 2, 3)}
        for name, value in {
            "id": id_,
            "name": "lattice",
            "active": "node-1",
            "administrator": ["admin", "lattice"],
            "members": members,
            "networks": {},
            "devices": {},
            "place": None,
            "learned": "",
            "schedule": {},
            "last": 0.0,
        }.items():
            self.set(name, value)
        make_certificate(self.folder, id_)

    def get(self, name: str) -> Any:
        return json.loads((self.folder / f"{name}.json").read_text())

    def set(self, name: str, value: object) -> None:
        draft = self.folder / f"{name}.draft"
        draft.write_text(json.dumps(value))
        draft.rename(self.folder / f"{name}.json")

    def put(self, sort: str, name: str, told: dict[str, Any]) -> None:
        self.set(sort, {**self.get(sort), name: told})

    def remove(self, sort: str, name: str) -> None:
        self.set(sort, {one: value for one, value in self.get(sort).items() if one != name})

    def file(self) -> str:
        own = {
            "lattice": VERSION,
            "cluster": self.get("id"),
            "members": sorted(self.get("members")),
        }
        return json.dumps({**own, **{sort: self.get(sort) for sort in SORTS[:2]}}, indent=1)

    def load(self, text: str) -> None:
        try:
            told = json.loads(text)
            version, members = told["lattice"], told["members"]
            tables: dict[str, Table] = {sort: told[sort] for sort in SORTS[:2]}
        except (ValueError, KeyError, TypeError) as error:
            raise Refused("this is no file of a cluster") from error
        if version != VERSION:
            raise Refused(f"this is a file of {version}, and here is {VERSION}")
        unknown = [name for name in members if name not in self.get("members")]
        if unknown:
            raise Refused(f"the members do not know each other: {unknown[0]} is no name here")
        for sort, table in tables.items():
            self.set(sort, table)
