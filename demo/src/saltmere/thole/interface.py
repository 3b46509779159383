"""Thole's HTTPS interface."""

import secrets
from collections.abc import Callable
from typing import Annotated, Any

from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.responses import Response
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.thole.unit import PRODUCT, SECTIONS, VERSION, Refused, Unit


def make_app(unit: Unit, now: Callable[[], float]) -> FastAPI:
    def enter(given: Annotated[HTTPBasicCredentials, Depends(HTTPBasic())]) -> None:
        account, password = unit.told("administrator").split("\n")
        right = secrets.compare_digest(given.password.encode(), password.encode())
        if not (right and secrets.compare_digest(given.username.encode(), account.encode())):
            raise HTTPException(401, "wrong login")

    app = FastAPI(dependencies=[Depends(enter)], openapi_url=None)
    _tell(app, unit, now)
    _capture(app, unit)

    @app.put("/administrator")
    async def put_administrator(request: Request) -> None:
        told = await request.json()
        unit.note("administrator", f"{told['account']}\n{told['password']}")

    @app.put("/name")
    async def put_name(request: Request) -> None:
        unit.note("name", (await request.json())["name"])

    @app.get("/sections/{section}")
    def document(section: str, identities: str = "no", labels: str = "no") -> Response:
        known(section)
        told = unit.document(section, identities=identities == "yes", labels=labels == "yes")
        return Response(told, media_type="application/xml")

    @app.put("/sections/{section}")
    async def load(section: str, request: Request) -> None:
        known(section)
        try:
            unit.load(section, await request.body())
        except Refused as error:
            raise HTTPException(409, str(error)) from error

    @app.put("/sections/{section}/{name}")
    async def put(section: str, name: str, request: Request) -> None:
        known(section)
        unit.put(section, name, await request.json())

    @app.delete("/sections/{section}/{name}")
    def remove(section: str, name: str) -> None:
        known(section)
        unit.remove(section, name)

    def known(section: str) -> None:
        if section not in SECTIONS:
            raise HTTPException(404, "no such section")

    return app


def _capture(app: FastAPI, unit: Unit) -> None:
    captures = unit.folder / "captures"

    @app.put("/captures/{name}")
    async def order(name: str, request: Request) -> dict[str, str]:
        told = await request.json()
        (captures / name).unlink(missing_ok=True)
        (captures / f"{name}.order").touch()
        if told.get("run") == "yes":
            wanted = {key: told.get(key) == "yes" for key in ("identities", "labels")}
            (captures / name).write_bytes(unit.image(**wanted))
        return {"retrieve": f"https://{unit.told('name')}.internal:443/retrieve/{name}"}

    @app.get("/captures/{name}")
    def look(name: str) -> dict[str, str]:
        if not (captures / f"{name}.order").exists():
            raise HTTPException(404, "no such order")
        return {"state": "done" if (captures / name).exists() else "saved"}

    @app.get("/retrieve/{name}")
    def retrieve(name: str) -> Response:
        if not (captures / name).exists():
            raise HTTPException(404, "nothing was captured")
        return Response((captures / name).read_bytes(), media_type="application/zip")

    @app.post("/image")
    async def rebuild(request: Request) -> None:
        try:
            unit.rebuild(await request.body())
        except Refused as error:
            raise HTTPException(409, str(error)) from error


def _tell(app: FastAPI, unit: Unit, now: Callable[[], float]) -> None:
    """What it answers and changes nothing by."""

    @app.get("/about")
    def about() -> dict[str, Any]:
        told = {"id": unit.told("id"), "product": PRODUCT, "version": VERSION}
        state = "empty" if unit.is_empty() else "running"
        return {**told, "name": unit.told("name"), "state": state}

    @app.get("/clock")
    def clock() -> dict[str, float]:
        return {"time": now()}

    @app.get("/health")
    def health() -> dict[str, str]:
        doubt = unit.in_doubt()
        return {"health": f"identities twice: {', '.join(doubt)}" if doubt else "ok"}

    @app.get("/sections")
    def sections() -> dict[str, list[str]]:
        return {"sections": list(SECTIONS)}

    @app.get("/inventory")
    def inventory() -> dict[str, Any]:
        told: dict[str, Any] = {
            section: [
                {"name": name, **values} for name, values in sorted(unit.things(section).items())
            ]
            for section in SECTIONS
        }
        return {**told, "administrator": unit.told("administrator").split("\n")[0]}
