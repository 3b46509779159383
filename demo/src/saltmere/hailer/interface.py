"""Hailer's HTTPS interface."""

import asyncio
import secrets
from collections.abc import Callable, Coroutine
from datetime import UTC, datetime
from typing import Annotated, Any

from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.hailer.exchange import COMPONENTS, PRODUCT, VERSION, Exchange
from saltmere.sftp_place import Place, Refused, fetched, push


class Behind:
    """What goes on behind the interface: runs by their ids, and a load."""

    def __init__(self, exchange: Exchange, now: Callable[[], float]) -> None:
        self.exchange, self.now = exchange, now
        self.runs: dict[str, dict[str, str]] = {}
        self.loading: dict[str, str] = {"state": "none", "why": ""}
        self._tasks: set[asyncio.Task[None]] = set()

    def begin(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def run(self, components: list[str]) -> str:
        place = self.exchange.get("place")
        if place is None:
            raise HTTPException(409, "no place has been set")
        if unknown := [one for one in components if one not in COMPONENTS]:
            raise HTTPException(422, f"no such component: {unknown[0]}")
        run = secrets.token_hex(4)
        stamp = datetime.fromtimestamp(self.now(), UTC).strftime("%Y%m%dT%H%M%S") + f"-{run}"
        self.runs[run] = {"state": "running", "why": ""}
        files = self.exchange.files(components, stamp)
        self.begin(self._push(run, Place.told(place), files))
        return run

    async def _push(self, run: str, place: Place, files: dict[str, bytes]) -> None:
        try:
            await push(place, files, [])
            self.runs[run] = {"state": "done", "why": ""}
        except Refused as error:
            self.runs[run] = {"state": "failed", "why": str(error)}

    async def load(self, place: Place) -> None:
        try:
            self.exchange.load(await fetched(place, lambda _count: None))
            self.loading = {"state": "loaded", "why": ""}
        except Refused as error:
            self.loading = {"state": "failed", "why": str(error)}


def make_app(exchange: Exchange, now: Callable[[], float]) -> FastAPI:
    def enter(given: Annotated[HTTPBasicCredentials, Depends(HTTPBasic())]) -> None:
        account, password = exchange.get("administrator")
        right = secrets.compare_digest(given.password.encode(), password.encode())
        if not (right and secrets.compare_digest(given.username.encode(), account.encode())):
            raise HTTPException(401, "wrong login")

    app = FastAPI(dependencies=[Depends(enter)], openapi_url=None)
    behind = Behind(exchange, now)
    _tell(app, exchange, now)

    @app.put("/mailboxes/{name}")
    async def put_mailbox(name: str, request: Request) -> None:
        exchange.put_mailbox(name, (await request.json())["pin"])

    @app.put("/routes/{name}")
    async def put_route(name: str, request: Request) -> None:
        exchange.put_route(name, (await request.json())["to"])

    @app.put("/greetings/{name}")
    async def put_greeting(name: str, request: Request) -> None:
        (exchange.sounds / name).write_bytes(await request.body())

    @app.put("/administrator")
    async def put_administrator(request: Request) -> None:
        told = await request.json()
        exchange.set("administrator", [told["account"], told["password"]])

    @app.put("/name")
    async def put_name(request: Request) -> None:
        exchange.set("name", (await request.json())["name"])

    @app.put("/place")
    async def put_place(request: Request) -> None:
        exchange.set("place", await request.json())

    @app.post("/runs")
    async def run(request: Request) -> dict[str, str]:
        components = (await request.json()).get("components") or ["routes"]
        return {"run": behind.run(components)}

    @app.get("/runs/{id_}")
    def look(id_: str) -> dict[str, str]:
        if id_ not in behind.runs:
            raise HTTPException(404, "no such run")
        return behind.runs[id_]

    @app.post("/load", status_code=202)
    async def load(request: Request) -> None:
        behind.loading = {"state": "fetching", "why": ""}
        behind.begin(behind.load(Place.told(await request.json())))

    @app.get("/load")
    def loading() -> dict[str, str]:
        return behind.loading

    @app.delete("/{sort}/{name}")
    def remove(sort: str, name: str) -> None:
        if sort not in COMPONENTS:
            raise HTTPException(404, "no such thing")
        exchange.remove(sort, name)

    return app


def _tell(app: FastAPI, exchange: Exchange, now: Callable[[], float]) -> None:
    """What it answers and changes nothing by."""

    @app.get("/about")
    def about() -> dict[str, Any]:
        own = {name: exchange.get(name) for name in ("id", "name")}
        return {**own, "product": PRODUCT, "version": VERSION}

    @app.get("/clock")
    def clock() -> dict[str, float]:
        return {"time": now()}

    @app.get("/health")
    def health() -> dict[str, str]:
        silent = sorted(exchange.mailboxes().keys() - exchange.greetings().keys() - {"operator"})
        return {"health": f"no greeting: {', '.join(silent)}" if silent else "ok"}

    @app.get("/inventory")
    def inventory() -> dict[str, Any]:
        sounds = exchange.greetings().items()
        return {
            "mailboxes": [{"name": name} for name in exchange.mailboxes()],
            "greetings": [{"name": name, "bytes": len(sound)} for name, sound in sounds],
            "routes": [{"name": name, "to": leads} for name, leads in exchange.routes().items()],
            "administrator": exchange.get("administrator")[0],
        }
