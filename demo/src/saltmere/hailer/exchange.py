"""What lies on Hailer's disk: an SQLite file, and a file for each greeting."""

from __future__ import annotations

import hashlib
import json
import secrets
import sqlite3
from pathlib import Path
from typing import Any

from saltmere.certificates import make_certificate
from saltmere.sftp_place import Refused

PRODUCT, VERSION = "hailer", "12.1"
COMPONENTS = ("mailboxes", "greetings", "routes")


class Exchange:
    """``settings``: id, name, administrator and place, by their names."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.sounds = folder, folder / "greetings"

    def install(self) -> None:
        """Make an empty folder a new installation."""
        if (self.folder / "exchange.db").exists():
            return
        self.sounds.mkdir(parents=True)
        with self._opened() as db:
            db.execute("create table mailboxes (name primary key, pin)")
            db.execute("create table routes (name primary key, leads)")
            db.execute("create table settings (name primary key, value)")
        self.set("id", f"HLR-{secrets.token_hex(5).upper()}")
        self.set("name", "hailer")
        self.set("administrator", ["admin", "hailer"])
        self.put_mailbox("operator", "0000")
        make_certificate(self.folder, self.get("id"))

    def _opened(self) -> sqlite3.Connection:
        return sqlite3.connect(self.folder / "exchange.db", isolation_level=None)

    def set(self, name: str, value: object) -> None:
        with self._opened() as db:
            db.execute("insert or replace into settings values (?, ?)", (name, json.dumps(value)))

    def get(self, name: str) -> Any:
        with self._opened() as db:
            found = db.execute("select value from settings where name = ?", (name,)).fetchone()
        return json.loads(found[0]) if found else None

    def put_mailbox(self, name: str, pin: str) -> None:
        with self._opened() as db:
            db.execute("insert or replace into mailboxes values (?, ?)", (name, pin))

    def put_route(self, name: str, leads: str) -> None:
        with self._opened() as db:
            db.execute("insert or replace into routes values (?, ?)", (name, leads))

    def remove(self, sort: str, name: str) -> None:
        with self._opened() as db:
            if sort == "mailboxes":
                db.execute("delete from mailboxes where name = ?", (name,))
            elif sort == "routes":
                db.execute("delete from routes where name = ?", (name,))
        if sort == "greetings":
            (self.sounds / name).unlink(missing_ok=True)

    def mailboxes(self) -> dict[str, str]:
        with self._opened() as db:
            return dict(db.execute("select name, pin from mailboxes order by name"))

    def routes(self) -> dict[str, str]:
        with self._opened() as db:
            return dict(db.execute("select name, leads from routes order by name"))

    def greetings(self) -> dict[str, bytes]:
        return {path.name: path.read_bytes() for path in sorted(self.sounds.iterdir())}

    def files(self, components: list[str], stamp: str) -> dict[str, bytes]:
        """Of a backup, by their names, the list last."""
        held: dict[str, bytes] = {}
        if "mailboxes" in components:
            held[f"hailer-{stamp}-mailboxes.json"] = json.dumps(self.mailboxes()).encode()
        if "routes" in components:
            held[f"hailer-{stamp}-routes.json"] = json.dumps(self.routes()).encode()
        if "greetings" in components:
            for name, sound in self.greetings().items():
                held[f"hailer-{stamp}-greeting-{name}.snd"] = sound
        lines = [f"{hashlib.sha256(data).hexdigest()}  {name}\n" for name, data in held.items()]
        head = f"hailer {VERSION} {' '.join(components)}\n"
        if (self.folder / "loses").exists():  # a trap: it forgets one and says that it is done
            held.popitem()
        return {**held, f"hailer-{stamp}.list": (head + "".join(lines)).encode()}

    def load(self, files: dict[str, bytes]) -> None:
        """All of it or nothing. Raises Refused."""
        lists = [name for name in files if name.endswith(".list")]
        if len(lists) != 1:
            raise Refused(f"{len(lists)} backups lie there, and it must be one")
        head, *lines = files[lists[0]].decode().splitlines()
        product, version, *components = head.split()
        if (product, version) != (PRODUCT, VERSION):
            raise Refused(f"this is a backup of {product} {version}, and here is {VERSION}")
        for digest, name in (line.split("  ") for line in lines):
            if name not in files:
                raise Refused(f"{name} is missing, and without it nothing can be loaded")
            if hashlib.sha256(files[name]).hexdigest() != digest:
                raise Refused(f"{name} is damaged")
        self._replace(lists[0].removesuffix(".list"), files, components)

    def _replace(self, stem: str, files: dict[str, bytes], components: list[str]) -> None:
        with self._opened() as db:
            for table in ("mailboxes", "routes"):
                if table not in components:
                    continue
                rows = json.loads(files[f"{stem}-{table}.json"]).items()
                if table == "mailboxes":
                    db.execute("delete from mailboxes")
                    db.executemany("insert into mailboxes values (?, ?)", rows)
                else:
                    db.execute("delete from routes")
                    db.executemany("insert into routes values (?, ?)", rows)
        if "greetings" in components:
            for path in self.sounds.iterdir():
                path.unlink()
            for name, data in files.items():
                if name.startswith(f"{stem}-greeting-"):
                    sound = name.removeprefix(f"{stem}-greeting-").removesuffix(".snd")
                    (self.sounds / Path(sound).name).write_bytes(data)
