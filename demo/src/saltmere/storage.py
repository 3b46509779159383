"""Skerry, a simulated storage appliance with an HTTPS interface of its own. Its manual:
``demo/docs/skerry.md``.
"""

import argparse
import asyncio
import json
import secrets
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Annotated, Any

from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.responses import JSONResponse, Response
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.clock import Follower
from saltmere.secure_server import serve_until_restart
from saltmere.skerry_state import PRODUCT, VERSION, Appliance

_EXPORT_LOOKS = 2  # looks at an export before it is ready


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
            "version": appliance.version,
            "build": f"{appliance.version}-118",
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
        said = [f"pools missing for {', '.join(lacking)}"] if lacking else []
        for volume in appliance.volumes():
            if not volume["open"]:
                why = "closed" if volume["found"] else "not found"
                said.append(f"volume {volume['name']} {why}")
        return {"health": "; ".join(said) or "ok"}

    @app.put("/api/volumes/{name}")
    async def put_volume(name: str, request: Request) -> None:
        appliance.make_volume(name, sealed=bool((await request.json())["sealed"]))

    @app.get("/api/keys")
    def keys() -> dict[str, str]:
        return appliance.keys()

    @app.post("/api/keys")
    async def take_in(request: Request) -> None:
        appliance.take_in(json.loads(await request.body()))

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
            if bundle["format"] != "skerry-export" or bundle["version"] != appliance.version:
                raise HTTPException(422, "not an export of this version")
            appliance.load(bundle)
        except (KeyError, TypeError, ValueError) as error:
            raise HTTPException(422, "not an export") from error
        restart.set()
        return JSONResponse({"restarts": True}, 202)

    return app


async def run(appliance: Appliance, now: Callable[[], float]) -> None:
    """Serve, and after an import restart by itself at the address of its network settings."""
    folder = appliance.folder
    while True:
        restart = asyncio.Event()
        host, port, _ = appliance.one("select host, port, name from network")
        app = make_app(appliance, restart, now)
        lingers = partial(_lingers, folder)
        if not await serve_until_restart(app, folder, host, port, restart, lingers=lingers):
            return


def _lingers(folder: Path) -> float:
    """Seconds for which it still answers as before; a test may write them into the folder."""
    told = folder / "lingers"
    return float(told.read_text()) if told.exists() else 0.05


async def serve(words: list[str]) -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("folder", type=Path)
    parser.add_argument("--fresh-address", required=True)
    parser.add_argument("--data", type=Path)
    parser.add_argument("--version", default=VERSION)
    parser.add_argument("--clock", type=Path)
    given = parser.parse_args(words)
    host, _, port = given.fresh_address.rpartition(":")
    now = Follower(given.clock).now if given.clock else time.time
    await run(Appliance(given.folder, host, int(port), given.data, given.version), now)


if __name__ == "__main__":
    asyncio.run(serve(sys.argv[1:]))
