"""Lattice's HTTPS interface, at its shared address."""

import secrets
from collections.abc import Callable
from typing import Annotated, Any

from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.lattice.cluster import PRODUCT, SORTS, VERSION, Cluster
from saltmere.lattice.pushing import Pushing


def make_app(cluster: Cluster, pushing: Pushing, now: Callable[[], float]) -> FastAPI:
    def enter(given: Annotated[HTTPBasicCredentials, Depends(HTTPBasic())]) -> None:
        account, password = cluster.get("administrator")
        right = secrets.compare_digest(given.password.encode(), password.encode())
        if not (right and secrets.compare_digest(given.username.encode(), account.encode())):
            raise HTTPException(401, "wrong login")

    app = FastAPI(dependencies=[Depends(enter)], openapi_url=None)
    _tell(app, cluster, now)
    _move(app, cluster, pushing)

    @app.put("/administrator")
    async def put_administrator(request: Request) -> None:
        told = await request.json()
        cluster.set("administrator", [told["account"], told["password"]])

    @app.put("/name")
    async def put_name(request: Request) -> None:
        cluster.set("name", (await request.json())["name"])

    @app.post("/members/{name}/activate")
    async def activate(name: str) -> None:
        if name not in cluster.get("members"):
            raise HTTPException(404, "no such member")
        cluster.set("active", name)

    @app.put("/{sort}/{name}")
    async def put(sort: str, name: str, request: Request) -> None:
        if sort not in SORTS:
            raise HTTPException(404, "no such thing")
        cluster.put(sort, name, await request.json())
        pushing.changed()

    @app.delete("/{sort}/{name}")
    async def remove(sort: str, name: str) -> None:
        if sort not in SORTS:
            raise HTTPException(404, "no such thing")
        cluster.remove(sort, name)
        pushing.changed()

    return app


def _tell(app: FastAPI, cluster: Cluster, now: Callable[[], float]) -> None:
    """What it answers and changes nothing by."""

    @app.get("/about")
    def about() -> dict[str, Any]:
        own = {name: cluster.get(name) for name in ("id", "name", "active")}
        return {**own, "product": PRODUCT, "version": VERSION}

    @app.get("/clock")
    def clock() -> dict[str, float]:
        return {"time": now()}

    @app.get("/inventory")
    def inventory() -> dict[str, Any]:
        return {
            sort: [{"name": name, **told} for name, told in sorted(cluster.get(sort).items())]
            for sort in SORTS
        }

    @app.get("/health")
    def health() -> dict[str, str]:
        networks = cluster.get("networks")
        lost = [
            name for name, told in cluster.get("devices").items() if told["network"] not in networks
        ]
        return {"health": f"in no network: {', '.join(sorted(lost))}" if lost else "ok"}


def _move(app: FastAPI, cluster: Cluster, pushing: Pushing) -> None:
    """Its place, its schedule, pushes and loads."""

    @app.put("/place")
    async def put_place(request: Request) -> None:
        cluster.set("place", await request.json())
        cluster.set("learned", "")

    @app.get("/place")
    def place() -> dict[str, Any]:
        told = cluster.get("place") or {}
        shown = {name: value for name, value in told.items() if name != "secret"}
        return {**shown, "learned": cluster.get("learned")}

    @app.put("/schedule")
    async def put_schedule(request: Request) -> None:
        cluster.set("schedule", await request.json())

    @app.post("/pushes")
    async def begin() -> dict[str, str]:
        if cluster.get("place") is None:
            raise HTTPException(409, "no place has been set")
        return {"run": pushing.run("asked")}

    @app.get("/pushes/{run}")
    async def look(run: str) -> dict[str, str]:
        if run not in pushing.runs:
            raise HTTPException(404, "no such run")
        return pushing.runs[run]

    @app.post("/load", status_code=202)
    async def load(request: Request) -> None:
        pushing.loading = {"state": "fetching", "why": ""}
        pushing.begin(pushing.load(await request.json()))

    @app.get("/load")
    async def loading() -> dict[str, str]:
        return pushing.loading
