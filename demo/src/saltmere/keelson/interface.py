"""Keelson's HTTPS interface."""

import hashlib
import secrets
from collections.abc import Awaitable, Callable
from typing import Annotated, Any

import asyncssh
from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.responses import Response
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.keelson.guests import IMAGES, Guests, refusal
from saltmere.keelson.installation import PRODUCT, TABLES, VERSION, Installation

_LOOKS = 2  # at a bundle before it is ready


def make_app(
    installation: Installation,
    now: Callable[[], float],
    shell_changed: Callable[[], Awaitable[None]],
    guests: Guests,
) -> FastAPI:
    def enter(given: Annotated[HTTPBasicCredentials, Depends(HTTPBasic())]) -> None:
        if not installation.may_enter(given.username, given.password):
            raise HTTPException(401, "wrong login")

    app = FastAPI(dependencies=[Depends(enter)], openapi_url=None)
    bundles: dict[str, list[Any]] = {}
    shell_key = asyncssh.read_private_key(str(installation.folder / "shell.key"))

    @app.get("/host")
    def host() -> dict[str, Any]:
        return {
            "id": installation.get("id"),
            "product": PRODUCT,
            "version": VERSION,
            "build": installation.build,
            "name": installation.get("network")["name"],
            "partition": installation.get("partition"),
            "licence": installation.get("licence"),
            "shell_key": shell_key.get_fingerprint(),
            **installation.get("state"),
        }

    @app.get("/clock")
    def clock() -> dict[str, float]:
        return {"time": now()}

    @app.get("/health")
    def health() -> dict[str, str]:
        closed = [name for name in installation.table("stores") if not installation.opens(name)]
        return {"health": f"closed: {', '.join(sorted(closed))}" if closed else "ok"}

    @app.get("/settings")
    def settings() -> dict[str, Any]:
        told: dict[str, Any] = {}
        for table in TABLES:
            held = installation.table(table)
            told[table] = [{"name": name, **held[name]} for name in sorted(held)]
        told["people"] = [{"name": one["name"]} for one in told["people"]]
        for store in told["stores"]:
            store["opens"] = installation.opens(store["name"])
            store.pop("of", None)
        told["administrator"] = installation.get("administrator")["account"]
        return told

    @app.get("/network")
    def network() -> dict[str, Any]:
        told = installation.get("network")
        address = f"{told['host']}:{told['port']}"
        return {**told, "address": address, "licence": installation.get("licence")["key"]}

    @app.put("/network")
    async def put_network(request: Request) -> None:
        told = await request.json()
        value = {"host": told["host"], "port": int(told["port"]), "name": told["name"]}
        installation.put("network", value)

    @app.put("/licence")
    async def put_licence(request: Request) -> None:
        installation.put("licence", {"key": (await request.json())["key"], "sort": "full"})

    @app.put("/administrator")
    async def put_administrator(request: Request) -> None:
        told = await request.json()
        installation.set_administrator(told["account"], told["password"])

    @app.put("/quiet")
    async def put_quiet(request: Request) -> None:
        on = bool((await request.json())["on"])
        if on and (running := installation.running_machines()):
            raise HTTPException(409, f"machines run: {', '.join(running)}")
        installation.put("state", {**installation.get("state"), "quiet": on})

    @app.put("/shell")
    async def put_shell(request: Request) -> None:
        on = bool((await request.json())["on"])
        installation.put("state", {**installation.get("state"), "shell": on})
        await shell_changed()

    @app.put("/machines/{name}/power")
    async def power(name: str, request: Request) -> None:
        on = bool((await request.json())["on"])
        if not installation.there(f"machines/{name}"):
            raise HTTPException(404, "no such machine")
        if on and installation.get("state")["quiet"]:
            raise HTTPException(409, "the host is quiet")
        machine = {**installation.get(f"machines/{name}"), "on": on}
        installation.put(f"machines/{name}", machine)
        guests.switch(name, machine, on=on)

    @app.get("/images")
    def images() -> list[str]:
        return sorted(IMAGES)

    @app.get("/machines/{name}")
    def show_machine(name: str) -> dict[str, Any]:
        if not installation.there(f"machines/{name}"):
            raise HTTPException(404, "no such machine")
        machine = installation.get(f"machines/{name}")
        hidden = {key: value for key, value in machine.items() if key != "address"}
        return {"on": False, **hidden, **guests.told(name, machine)}

    @app.get("/running")
    def running() -> dict[str, str]:
        return {"running": ", ".join(installation.running_machines()) or "none"}

    @app.post("/bundles")
    def make_bundle() -> dict[str, str]:
        id_ = secrets.token_hex(4)
        bundles[id_] = [_LOOKS, installation.bundle()]
        return {"bundle": id_}

    @app.get("/bundles/{id_}")
    def look(id_: str) -> dict[str, str]:
        if id_ not in bundles:
            raise HTTPException(404, "no such bundle")
        left = bundles[id_][0]
        bundles[id_][0] = max(left - 1, 0)
        digest = hashlib.sha256(bundles[id_][1]).hexdigest()
        return {"state": "writing"} if left else {"state": "ready", "sha256": digest}

    @app.get("/bundles/{id_}/file")
    def fetch(id_: str) -> Response:
        if id_ not in bundles or bundles[id_][0]:
            raise HTTPException(409, "the bundle is not ready")
        data = bundles.pop(id_)[1]
        if (installation.folder / "halves").exists():  # a trap: ready, and only half of it comes
            data = data[: len(data) // 2]
        return Response(data, media_type="application/octet-stream")

    @app.put("/{table}/{name}")
    async def put(table: str, name: str, request: Request) -> None:
        if table not in TABLES:
            raise HTTPException(404, "no such table")
        told = await request.json()
        if table == "stores":
            installation.put_store(name, told)
        elif table == "machines" and "image" in told:
            there = installation.there(f"machines/{name}")
            if why := refusal(told, set(installation.table("stores")), there):
                raise HTTPException(409, why)
            made = {key: told[key] for key in ("store", "image", "address")}
            installation.put(f"machines/{name}", {**made, "memory": int(told["memory"])})
        else:
            installation.put(f"{table}/{name}", told)

    @app.delete("/{table}/{name}")
    def delete(table: str, name: str) -> None:
        if table not in TABLES or not installation.there(f"{table}/{name}"):
            raise HTTPException(404, "no such thing")
        installation.remove(f"{table}/{name}")
        if table == "machines":
            guests.remove(name)

    return app
