"""What a Skerry appliance keeps: its tables, exports and logins. ``storage`` serves it."""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import sqlite3
from pathlib import Path
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from saltmere.certificates import make_certificate

PRODUCT, VERSION = "skerry", "4.2b"

_TABLES = """
create table about (serial text, secret_key blob, quiet integer);
create table administrator (account text, salt blob, hash blob);
create table network (host text, port integer, name text);
create table pools (name text primary key, disks integer);
create table shares (name text primary key, pool text, readers text, is_default integer);
create table users (name text primary key, quota integer, password blob, is_default integer);
create table services (name text primary key, enabled integer);
"""
_VOLUMES = """
create table if not exists volumes (name text primary key, id text, sealed integer);
create table if not exists volume_keys (id text primary key, key blob);
"""


class Appliance:
    """What is on the appliance's boot device. ``data``: where its volumes lie."""

    def __init__(
        self,
        folder: Path,
        fresh_host: str,
        fresh_port: int,
        data: Path | None = None,
        version: str = VERSION,
    ) -> None:
        self.folder, self.version = folder, version
        self.data = data or folder.with_name(f"{folder.name}-data")
        folder.mkdir(parents=True, exist_ok=True)
        self.data.mkdir(parents=True, exist_ok=True)
        fresh = not (folder / "appliance.db").exists()
        self.db = sqlite3.connect(
            folder / "appliance.db", isolation_level=None, check_same_thread=False
        )
        self.exports: dict[str, tuple[int, bytes]] = {}
        self.db.executescript(_VOLUMES)  # an older appliance has none of these
        if fresh:
            self._install(fresh_host, fresh_port)

    def _install(self, host: str, port: int) -> None:
        self.db.executescript(_TABLES)
        serial = f"SKY-{secrets.token_hex(4).upper()}"
        self.db.execute("insert into about values (?, ?, 0)", (serial, secrets.token_bytes(32)))
        self.set_administrator("admin", "admin")
        self.db.execute("insert into network values (?, ?, ?)", (host, port, "skerry"))
        self.db.execute("insert into shares values ('public', 'none', 'everyone', 1)")
        self.db.execute("insert into users values ('guest', 0, ?, 1)", (self.encrypt("guest"),))
        self.db.execute("insert into services values ('files', 1)")
        make_certificate(self.folder, serial)

    def one(self, query: str, *values: object) -> Any:
        return self.db.execute(query, values).fetchone()

    def rows(self, query: str) -> list[Any]:
        return self.db.execute(query).fetchall()

    @property
    def secret_key(self) -> bytes:
        key: bytes = self.one("select secret_key from about")[0]
        return key

    def encrypt(self, password: str) -> bytes:
        nonce = secrets.token_bytes(12)
        return nonce + AESGCM(self.secret_key).encrypt(nonce, password.encode(), None)

    def password_known(self, stored: bytes) -> bool:
        try:
            AESGCM(self.secret_key).decrypt(stored[:12], stored[12:], None)
        except InvalidTag:
            return False
        return True

    def set_administrator(self, account: str, password: str) -> None:
        salt = secrets.token_bytes(16)
        self.db.execute("delete from administrator")
        self.db.execute(
            "insert into administrator values (?, ?, ?)", (account, salt, _hash(password, salt))
        )

    def may_enter(self, account: str, password: str) -> bool:
        known, salt, hashed = self.one("select account, salt, hash from administrator")
        return secrets.compare_digest(account, known) and secrets.compare_digest(
            _hash(password, salt), hashed
        )

    def make_volume(self, name: str, *, sealed: bool) -> None:
        """Its device bears the id, and a digest of the key."""
        id_ = f"VOL-{secrets.token_hex(6).upper()}"
        key = secrets.token_bytes(32) if sealed else b""
        if sealed:
            self.db.execute("insert into volume_keys values (?, ?)", (id_, key))
        told = {"id": id_, "sealed": sealed, "of": hashlib.sha256(key).hexdigest()}
        (self.data / f"{id_}.volume").write_text(json.dumps(told))
        self.db.execute("insert or replace into volumes values (?, ?, ?)", (name, id_, int(sealed)))

    def volumes(self) -> list[dict[str, Any]]:
        keys = dict(self.rows("select id, key from volume_keys"))
        told = []
        for name, id_, sealed in self.rows("select * from volumes order by name"):
            device = self.data / f"{id_}.volume"
            of = json.loads(device.read_text())["of"] if device.exists() else ""
            is_open = bool(of) and (
                not sealed or (id_ in keys and hashlib.sha256(keys[id_]).hexdigest() == of)
            )
            told.append({"name": name, "id": id_, "found": bool(of), "open": is_open})
        return told

    def keys(self) -> dict[str, str]:
        return {id_: _text(key) for id_, key in self.rows("select id, key from volume_keys")}

    def take_in(self, keys: dict[str, str]) -> None:
        self.db.executemany(
            "insert or ignore into volume_keys values (?, ?)",
            [(id_, _bytes(key)) for id_, key in keys.items()],
        )

    def export(self, with_key: bool) -> bytes:
        host, port, name = self.one("select host, port, name from network")
        account, salt, hashed = self.one("select account, salt, hash from administrator")
        bundle = {
            "format": "skerry-export",
            "version": self.version,
            "network": {"host": host, "port": port, "name": name, "address": f"{host}:{port}"},
            "administrator": {"account": account, "salt": _text(salt), "hash": _text(hashed)},
            "pools": [
                {"name": n, "disks": d} for n, d in self.rows("select * from pools order by name")
            ],
            "shares": [
                {"name": n, "pool": p, "readers": r}
                for n, p, r, default in self.rows("select * from shares order by name")
                if not default
            ],
            "users": [
                {"name": n, "quota": q, "password": _text(p)}
                for n, q, p, default in self.rows("select * from users order by name")
                if not default
            ],
            "services": [
                {"name": n, "enabled": bool(e)}
                for n, e in self.rows("select * from services order by name")
            ],
        }
        bundle["volumes"] = [
            {"name": n, "id": i, "sealed": bool(s)}
            for n, i, s in self.rows("select * from volumes order by name")
        ]
        if with_key:
            bundle["secret_key"] = _text(self.secret_key)
        return json.dumps(bundle, indent=1, sort_keys=True).encode()

    def load(self, bundle: dict[str, Any]) -> None:
        """Replace all but the default objects."""
        db, network, admin = self.db, bundle["network"], bundle["administrator"]
        db.execute("begin")
        try:
            for table in ("pools", "services", "volumes"):
                db.execute(f"delete from {table}")  # noqa: S608 - a fixed name
            for table in ("shares", "users"):
                db.execute(f"delete from {table} where not is_default")  # noqa: S608 - a fixed name
            if "secret_key" in bundle:
                db.execute("update about set secret_key = ?", (_bytes(bundle["secret_key"]),))
                db.execute(
                    "update users set password = ? where name = 'guest'", (self.encrypt("guest"),)
                )
            db.execute(
                "update network set host = ?, port = ?, name = ?",
                (network["host"], network["port"], network["name"]),
            )
            db.execute(
                "update administrator set account = ?, salt = ?, hash = ?",
                (admin["account"], _bytes(admin["salt"]), _bytes(admin["hash"])),
            )
            db.executemany(
                "insert into pools values (?, ?)",
                [(p["name"], p["disks"]) for p in bundle["pools"]],
            )
            db.executemany(
                "insert or replace into shares values (?, ?, ?, 0)",
                [(s["name"], s["pool"], s["readers"]) for s in bundle["shares"]],
            )
            db.executemany(
                "insert or replace into users values (?, ?, ?, 0)",
                [(u["name"], u["quota"], _bytes(u["password"])) for u in bundle["users"]],
            )
            db.executemany(
                "insert into volumes values (?, ?, ?)",
                [(v["name"], v["id"], int(v["sealed"])) for v in bundle["volumes"]],
            )
            db.executemany(
                "insert into services values (?, ?)",
                [(s["name"], int(s["enabled"])) for s in bundle["services"]],
            )
        except (KeyError, TypeError, ValueError, sqlite3.Error):
            db.execute("rollback")
            raise
        db.execute("commit")

    def state(self) -> dict[str, Any]:
        return {
            "shares": [
                {"name": n, "pool": p, "readers": r, "default": bool(d)}
                for n, p, r, d in self.rows("select * from shares order by name")
            ],
            "users": [
                {
                    "name": n,
                    "password": "known" if self.password_known(p) else "lost",
                    "default": bool(d),
                }
                for n, _, p, d in self.rows("select * from users order by name")
            ],
            "volumes": self.volumes(),
            "permissions": [
                f"{n}: {r}" for n, _, r, _ in self.rows("select * from shares order by name")
            ],
            "pools": [n for (n, _) in self.rows("select * from pools order by name")],
            "services": [n for n, e in self.rows("select * from services order by name") if e],
        }


def _hash(password: str, salt: bytes) -> bytes:
    return hashlib.scrypt(password.encode(), salt=salt, n=1024, r=8, p=1)


def _text(data: bytes) -> str:
    return base64.b64encode(data).decode()


def _bytes(text: str) -> bytes:
    return base64.b64decode(text)
