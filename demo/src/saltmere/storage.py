"""Skerry, a simulated storage appliance with an HTTPS interface of its own.

MANUAL

1. Start: ``python -m saltmere.storage FOLDER --fresh-address HOST:PORT``. An empty folder is a
   freshly installed appliance: a new serial number, a self-signed certificate, the login ``admin``
   / ``admin``, the default share ``public`` and the default user ``guest``. It answers at the fresh
   address until its network settings say otherwise.
2. Every request needs the administrator's login (RFC 7617). ``GET /api/about`` tells serial,
   product and version; ``GET /api/state`` the shares, users, pools and services as they are, and
   whether each user's password is known.
3. Changing: ``PUT`` and ``DELETE`` of ``/api/shares/NAME`` and ``/api/users/NAME``, ``PUT
   /api/pools/NAME``, ``PUT /api/services/NAME``, ``PUT /api/administrator``, ``PUT /api/network``
   (takes effect at the next restart).
4. Export: ``POST /api/exports`` with ``{"secret_key": "yes" or "no"}`` answers an id; ``GET
   /api/exports/ID`` tells ``working`` or ``ready``; ``GET /api/exports/ID/file`` fetches it. Users'
   passwords are stored encrypted under the appliance's secret key. An export without that key holds
   them all the same, but nothing can decrypt them elsewhere.
5. Import: in the quiet state (``PUT /api/quiet``, ``{"quiet": true}``), ``POST /api/import`` with
   an export. Shares, users, pools and services are replaced, but the default objects stay. The
   appliance then restarts by itself and comes back at the address, and with the administrator's
   login, of the export; its serial number and certificate stay. An export of another major version
   is refused. The quiet state ends only when told so.
6. ``GET /api/time`` tells the appliance's clock, in seconds since 1970; with ``--clock SOCKET`` it
   is the estate's. ``GET /api/health`` answers ``ok`` once every share's pool is there.
"""

import argparse
import asyncio
import base64
import hashlib
import json
import secrets
import sqlite3
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Annotated, Any

import uvicorn
from cryptography import x509
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.x509.oid import NameOID
from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.responses import JSONResponse, Response
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.clock import Follower

PRODUCT, VERSION, BUILD = "skerry", "4.2b", "4.2b-118"
_EXPORT_LOOKS = 2  # looks at an export before it is ready
_RESTART_SECONDS = 0.4

_TABLES = """
create table about (serial text, secret_key blob, quiet integer);
create table administrator (account text, salt blob, hash blob);
create table network (host text, port integer, name text);
create table pools (name text primary key, disks integer);
create table shares (name text primary key, pool text, readers text, is_default integer);
create table users (name text primary key, quota integer, password blob, is_default integer);
create table services (name text primary key, enabled integer);
"""


class Appliance:
    """What is on the appliance's own disk."""

    def __init__(self, folder: Path, fresh_host: str, fresh_port: int) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        fresh = not (folder / "appliance.db").exists()
        self.db = sqlite3.connect(
            folder / "appliance.db", isolation_level=None, check_same_thread=False
        )
        self.exports: dict[str, tuple[int, bytes]] = {}
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
        self._make_certificate(host, serial)

    def _make_certificate(self, host: str, serial: str) -> None:
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, serial)])
        now = datetime.now(UTC)
        certificate = (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + timedelta(days=3650))
            .sign(key, hashes.SHA256())
        )
        pem = serialization.Encoding.PEM
        (self.folder / "certificate.pem").write_bytes(certificate.public_bytes(pem))
        private = key.private_bytes(
            pem, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
        (self.folder / "certificate.key").write_bytes(private)

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

    def export(self, with_key: bool) -> bytes:
        host, port, name = self.one("select host, port, name from network")
        account, salt, hashed = self.one("select account, salt, hash from administrator")
        bundle = {
            "format": "skerry-export",
            "version": VERSION,
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
        if with_key:
            bundle["secret_key"] = _text(self.secret_key)
        return json.dumps(bundle, indent=1, sort_keys=True).encode()

    def load(self, bundle: dict[str, Any]) -> None:
        """Replace all but the default objects."""
        db, network, admin = self.db, bundle["network"], bundle["administrator"]
        db.execute("begin")
        try:
            for table in ("pools", "services"):
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
            "pools": [n for (n, _) in self.rows("select * from pools order by name")],
            "services": [n for n, e in self.rows("select * from services order by name") if e],
        }


def _hash(password: str, salt: bytes) -> bytes:
    return hashlib.scrypt(password.encode(), salt=salt, n=1024, r=8, p=1)


def _text(data: bytes) -> str:
    return base64.b64encode(data).decode()


def _bytes(text: str) -> bytes:
    return base64.b64decode(text)


def make_app(appliance: Appliance, restart: asyncio.Event, now: Callable[[], float]) -> FastAPI:
    def enter(given: Annotated[HTTPBasicCredentials, Depends(HTTPBasic())]) -> None:
        if not appliance.may_enter(given.username, given.password):
            raise HTTPException(401, "wrong login")

    app = FastAPI(dependencies=[Depends(enter)], openapi_url=None)
    db = appliance.db

    @app.get("/api/about")
    def about() -> dict[str, str]:
        serial = appliance.one("select serial from about")[0]
        name = appliance.one("select name from network")[0]
        return {
            "serial": serial,
            "product": PRODUCT,
            "version": VERSION,
            "build": BUILD,
            "name": name,
        }

    @app.get("/api/state")
    def state() -> dict[str, Any]:
        return appliance.state()

    @app.get("/api/time")
    def clock() -> dict[str, float]:
        return {"time": now()}

    @app.get("/api/health")
    def health() -> dict[str, str]:
        pools = {name for (name, _) in appliance.rows("select * from pools")} | {"none"}
        lacking = [n for n, p, _, _ in appliance.rows("select * from shares") if p not in pools]
        return {"health": f"pools missing for {', '.join(lacking)}" if lacking else "ok"}

    @app.put("/api/shares/{name}")
    async def put_share(name: str, request: Request) -> None:
        wanted = await request.json()
        db.execute(
            "insert or replace into shares values (?, ?, ?, 0)",
            (name, wanted["pool"], wanted["readers"]),
        )

    @app.delete("/api/shares/{name}")
    def delete_share(name: str) -> None:
        db.execute("delete from shares where name = ?", (name,))

    @app.put("/api/users/{name}")
    async def put_user(name: str, request: Request) -> None:
        wanted = await request.json()
        stored = appliance.encrypt(wanted["password"])
        db.execute(
            "insert or replace into users values (?, ?, ?, 0)",
            (name, wanted.get("quota", 0), stored),
        )

    @app.delete("/api/users/{name}")
    def delete_user(name: str) -> None:
        db.execute("delete from users where name = ?", (name,))

    @app.put("/api/pools/{name}")
    async def put_pool(name: str, request: Request) -> None:
        db.execute(
            "insert or replace into pools values (?, ?)", (name, (await request.json())["disks"])
        )

    @app.put("/api/services/{name}")
    async def put_service(name: str, request: Request) -> None:
        enabled = int((await request.json())["enabled"])
        db.execute("insert or replace into services values (?, ?)", (name, enabled))

    @app.put("/api/administrator")
    async def put_administrator(request: Request) -> None:
        wanted = await request.json()
        appliance.set_administrator(wanted["account"], wanted["password"])

    @app.put("/api/network")
    async def put_network(request: Request) -> None:
        wanted = await request.json()
        db.execute(
            "update network set host = ?, port = ?, name = ?",
            (wanted["host"], wanted["port"], wanted["name"]),
        )

    @app.put("/api/quiet")
    async def put_quiet(request: Request) -> None:
        db.execute("update about set quiet = ?", (int((await request.json())["quiet"]),))

    @app.post("/api/exports")
    async def start_export(request: Request) -> dict[str, str]:
        wanted = (await request.json())["secret_key"]
        if wanted not in ("yes", "no"):
            raise HTTPException(422, "secret_key is yes or no")
        export = secrets.token_hex(4)
        appliance.exports[export] = (_EXPORT_LOOKS, appliance.export(wanted == "yes"))
        return {"export": export}

    @app.get("/api/exports/{export}")
    def look_at_export(export: str) -> dict[str, str]:
        left, data = _export(export)
        appliance.exports[export] = (max(left - 1, 0), data)
        return {"state": "working" if left else "ready"}

    @app.get("/api/exports/{export}/file")
    def fetch_export(export: str) -> Response:
        left, data = _export(export)
        if left:
            raise HTTPException(409, "the export is not ready")
        return Response(data, media_type="application/octet-stream")

    def _export(export: str) -> tuple[int, bytes]:
        if export not in appliance.exports:
            raise HTTPException(404, "no such export")
        return appliance.exports[export]

    @app.post("/api/import", status_code=202)
    async def load(request: Request) -> JSONResponse:
        if not appliance.one("select quiet from about")[0]:
            raise HTTPException(409, "enter the quiet state first")
        try:
            bundle = json.loads(await request.body())
            if (
                bundle["format"] != "skerry-export"
                or bundle["version"].split(".")[0] != VERSION.split(".")[0]
            ):
                raise HTTPException(422, "not an export of this version")
            appliance.load(bundle)
        except (KeyError, TypeError, ValueError) as error:
            raise HTTPException(422, "not an export") from error
        restart.set()
        return JSONResponse({"restarts": True}, 202)

    return app


async def run(folder: Path, fresh_host: str, fresh_port: int, now: Callable[[], float]) -> None:
    """Serve, and after an import restart by itself at the address of its network settings."""
    appliance = Appliance(folder, fresh_host, fresh_port)
    while True:
        restart = asyncio.Event()
        host, port, _ = appliance.one("select host, port, name from network")
        server = uvicorn.Server(
            uvicorn.Config(
                make_app(appliance, restart, now),
                host=host,
                port=port,
                ssl_certfile=folder / "certificate.pem",
                ssl_keyfile=folder / "certificate.key",
                log_level="warning",
                access_log=False,
                timeout_graceful_shutdown=1,
            )
        )
        serving = asyncio.create_task(server.serve())
        waiting = asyncio.create_task(restart.wait())
        await asyncio.wait({serving, waiting}, return_when=asyncio.FIRST_COMPLETED)
        if serving.done():
            return
        await asyncio.sleep(0.05)  # the answer to the import goes out first
        server.should_exit = True
        await serving
        await asyncio.sleep(_RESTART_SECONDS)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("folder", type=Path)
    parser.add_argument("--fresh-address", required=True)
    parser.add_argument("--clock", type=Path)
    arguments = parser.parse_args()
    fresh_host, fresh_port = arguments.fresh_address.rsplit(":", 1)
    now = Follower(arguments.clock).now if arguments.clock else time.time
    asyncio.run(run(arguments.folder, fresh_host, int(fresh_port), now))
