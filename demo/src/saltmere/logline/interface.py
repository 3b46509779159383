"""Logline's HTTPS interface."""

import json
import secrets
from collections.abc import Callable
from typing import Annotated, Any

from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.responses import JSONResponse
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.logline.objects import PRODUCT, VERSION, LogServer, Refused


def make_app(server: LogServer, shell_port: int, now: Callable[[], float]) -> FastAPI:
    def enter(given: Annotated[HTTPBasicCredentials, Depends(HTTPBasic())]) -> None:
        account, password = server.get("administrator")
        right = secrets.compare_digest(given.password.encode(), password.encode())
        if not (right and secrets.compare_digest(given.username.encode(), account.encode())):
            raise HTTPException(401, "wrong login")

    app = FastAPI(dependencies=[Depends(enter)], openapi_url=None)

    @app.exception_handler(Refused)
    async def refuse(_request: Request, error: Exception) -> JSONResponse:
        return JSONResponse({"refused": str(error)}, status_code=409)

    @app.get("/about")
    def about() -> dict[str, Any]:
        own = {name: server.get(name) for name in ("id", "name")}
        shell = {"port": shell_port, "key": server.host_key()}
        return {**own, "product": PRODUCT, "version": VERSION, "shell": shell}

    @app.get("/clock")
    def clock() -> dict[str, float]:
        return {"time": now()}

    @app.get("/objects")
    def objects() -> list[dict[str, Any]]:
        return server.objects()

    @app.put("/objects/{name}")
    async def put_object(name: str, request: Request) -> None:
        server.put(name, await request.json())

    @app.delete("/objects/{name}")
    def remove(name: str) -> None:
        server.remove(name)

    @app.get("/addons")
    def addons() -> list[str]:
        held: list[str] = server.get("addons")
        return held

    @app.put("/addons/{name}")
    def put_addon(name: str) -> None:
        server.set("addons", sorted({*server.get("addons"), name}))

    @app.put("/name")
    async def put_name(request: Request) -> None:
        server.set("name", (await request.json())["name"])

    @app.put("/administrator")
    async def put_administrator(request: Request) -> None:
        told = await request.json()
        server.set("administrator", [told["account"], told["password"]])

    _move(app, server)
    return app


def _move(app: FastAPI, server: LogServer) -> None:
    """Bundles, and what is wrong once one has been loaded."""

    @app.post("/bundles")
    async def make(request: Request) -> dict[str, str]:
        told = await request.json()
        return {"bundle": server.bundle(told.get("objects"), told.get("sorts"))}

    @app.get("/bundles/{id_}")
    def bundle(id_: str) -> dict[str, Any]:
        if id_ not in server.bundles:
            raise HTTPException(404, "no such bundle")
        return server.bundles[id_]

    @app.post("/load")
    async def load(request: Request) -> None:
        try:
            told = json.loads(await request.body())
            whole = {"version", "addons", "objects"} <= told.keys()
        except (ValueError, AttributeError) as error:
            raise HTTPException(422, "this is no bundle") from error
        if not whole:
            raise HTTPException(422, "this is no bundle")
        server.load(told)

    @app.get("/health")
    def health() -> dict[str, str]:
        return {"health": "; ".join(server.wrong()) or "ok"}
