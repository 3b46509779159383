"""Orlop's HTTPS interface."""

import asyncio
import secrets
import socket
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Annotated, Any

from fastapi import Depends, FastAPI, HTTPException, Request
from fastapi.responses import PlainTextResponse
from fastapi.security import HTTPBasic, HTTPBasicCredentials

from saltmere.orlop.backups import made
from saltmere.orlop.inventory import BUILD, LISTS, PRODUCT, VERSION, Inventory
from saltmere.orlop.loading import Loading
from saltmere.sftp_place import Place, Refused, push


class Orlop:
    """One deployment as it runs. ``restart``: set when it is to start again."""

    def __init__(self, inventory: Inventory, now: Callable[[], float]) -> None:
        self.inventory, self.now = inventory, now
        self.loading = Loading(inventory)
        self.restart = asyncio.Event()
        self.runs: dict[str, dict[str, Any]] = {}
        self._tasks: set[asyncio.Task[None]] = set()

    @property
    def state(self) -> str:
        if self.loading.state == "loading":
            return "loading"
        if (self.inventory.folder / "loading").exists():
            return "broken"
        return "running" if "begun" in self.inventory.settings else "fresh"

    def begin_backup(self, passphrase: str, *, history: bool) -> str:
        place = self.inventory.settings.get("place")
        if place is None:
            raise HTTPException(409, "no place for backups has been set")
        run = secrets.token_hex(4)
        stamp = datetime.fromtimestamp(self.now(), UTC).strftime("%Y%m%dT%H%M%S") + f"-{run}"
        self.runs[run] = {"state": "running", "why": "", "stamp": stamp, "files": []}
        task = asyncio.create_task(self._push(run, Place.told(place), passphrase, history=history))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        return run

    async def _push(self, run: str, place: Place, passphrase: str, *, history: bool) -> None:
        told = self.runs[run]
        events = self.inventory.history() if history else ""
        files = made(self.inventory.content(), events, passphrase, told["stamp"])
        keep = int(self.inventory.settings.get("schedule", {}).get("keep", 3))
        done = [one for one in self.runs.values() if one["state"] == "done"]
        old = [name for one in done[: max(len(done) + 1 - keep, 0)] for name in one["files"]]
        try:
            await push(place, files, old)
        except Refused as error:
            told["state"], told["why"] = "failed", str(error)
            return
        told["state"], told["files"] = "done", list(files)

    async def follow_schedule(self) -> None:
        """Push by the clock, as long as it runs."""
        last = self.now()
        while True:
            await asyncio.sleep(0.5)
            schedule = self.inventory.settings.get("schedule") or {}
            if not schedule or "place" not in self.inventory.settings:
                last = self.now()
            elif self.now() - last >= float(schedule["hours"]) * 3600:
                last = self.now()
                self.begin_backup(schedule["passphrase"], history=schedule["history"])

    def lost_hosts(self) -> list[str]:
        hosts = self.inventory.lists["hosts"]
        return [name for name, one in hosts.items() if not _answers(one["address"])]


def _answers(address: str) -> bool:
    host, _, port = address.rpartition(":")
    try:
        with socket.create_connection((host, int(port)), timeout=1):
            return True
    except OSError:
        return False


def make_app(orlop: Orlop) -> FastAPI:
    inventory = orlop.inventory

    def enter(given: Annotated[HTTPBasicCredentials, Depends(HTTPBasic())]) -> str:
        if not inventory.may_enter(given.username, given.password):
            raise HTTPException(401, "wrong login")
        return given.username

    Who = Annotated[str, Depends(enter)]  # noqa: N806 - a type
    app = FastAPI(dependencies=[Depends(enter)], openapi_url=None)

    def must_run() -> None:
        if orlop.state != "running":
            raise HTTPException(409, f"this deployment is {orlop.state}: it manages nothing")

    @app.get("/about")
    def about() -> dict[str, str]:
        return {
            "id": inventory.settings["id"],
            "product": PRODUCT,
            "version": VERSION,
            "build": BUILD,
            "name": inventory.settings["network"]["name"],
            "state": orlop.state,
        }

    @app.get("/clock")
    def clock() -> dict[str, float]:
        return {"time": orlop.now()}

    @app.get("/health")
    def health() -> dict[str, str]:
        if orlop.state != "running":
            return {"health": orlop.state}
        lost = orlop.lost_hosts()
        return {"health": f"lost: {', '.join(lost)}" if lost else "ok"}

    @app.get("/inventory")
    def shown() -> dict[str, Any]:
        return inventory.shown()

    @app.get("/network")
    def network() -> dict[str, Any]:
        place = inventory.settings.get("place") or {}
        told = inventory.settings["network"]
        address = f"{told['host']}:{told['port']}"
        return {**told, "address": address, "account": place.get("account", "")}

    @app.get("/history", response_class=PlainTextResponse)
    def history() -> str:
        return inventory.history()

    @app.get("/switches/{name}")
    def one_switch(name: str) -> Any:
        if name not in inventory.lists["switches"]:
            raise HTTPException(404, "no such switch")
        return inventory.lists["switches"][name]

    @app.put("/network")
    async def put_network(request: Request, who: Who) -> None:
        told = await request.json()
        value = {"host": told["host"], "port": int(told["port"]), "name": told["name"]}
        inventory.change(who, "settings", "network", value)

    @app.put("/administrator")
    async def put_administrator(request: Request, who: Who) -> None:
        told = await request.json()
        inventory.set_administrator(who, told["account"], told["password"])

    # its own backups

    @app.put("/backups/place")
    async def put_place(request: Request, who: Who) -> None:
        must_run()
        told = await request.json()
        try:
            Place.told(told)
        except (KeyError, ValueError) as error:
            raise HTTPException(422, "not a place") from error
        inventory.change(who, "settings", "place", told)

    @app.put("/backups/schedule")
    async def put_schedule(request: Request, who: Who) -> None:
        must_run()
        inventory.change(who, "settings", "schedule", await request.json())

    @app.post("/backups", status_code=202)
    async def back_up(request: Request) -> dict[str, str]:
        must_run()
        told = await request.json()
        history = told.get("history") in (True, "yes")
        return {"run": orlop.begin_backup(told.get("passphrase") or "", history=history)}

    @app.get("/backups")
    def backups() -> list[str]:
        return [one["stamp"] for one in orlop.runs.values() if one["state"] == "done"]

    @app.get("/backups/{run}")
    def one_backup(run: str) -> dict[str, str]:
        if run not in orlop.runs:
            raise HTTPException(404, "no such run")
        return {"state": orlop.runs[run]["state"], "why": orlop.runs[run]["why"]}

    # a new deployment

    def must_be_fresh() -> None:
        if orlop.state != "fresh":
            raise HTTPException(409, f"a backup goes into a new deployment: this is {orlop.state}")

    @app.post("/setup/begin")
    def begin(who: Who) -> None:
        must_be_fresh()
        inventory.change(who, "settings", "begun", True)

    @app.post("/setup/load", status_code=202)
    async def load(request: Request) -> dict[str, str]:
        must_be_fresh()
        if orlop.loading.state in ("fetching", "checking", "loaded"):
            raise HTTPException(409, f"a load is {orlop.loading.state} already")
        told = await request.json()
        try:
            place = Place.told(told)
        except (KeyError, ValueError) as error:
            raise HTTPException(422, "not a place") from error
        orlop.loading.begin(place, told.get("passphrase") or "")
        return {"state": orlop.loading.state}

    @app.get("/setup/load")
    def look() -> dict[str, Any]:
        loading = orlop.loading
        return {"state": loading.state, "why": loading.why, "fetched": loading.fetched}

    @app.delete("/setup/load")
    def give_up() -> None:
        if not orlop.loading.give_up():
            raise HTTPException(409, "nothing stops it now")

    @app.post("/setup/finish", status_code=202)
    def finish(who: Who) -> None:
        network = orlop.loading.network()
        if orlop.state != "fresh" or network is None:
            raise HTTPException(409, "nothing has been loaded")
        there = f"{network['host']}:{network['port']}"
        if there != (inventory.folder / "answers-at").read_text() and _answers(there):
            raise HTTPException(409, f"something answers at {there}: switch it off first")
        orlop.loading.take_effect()
        inventory.change(who, "settings", "begun", True)
        orlop.restart.set()

    for table in LISTS:
        _changes(app, orlop, table, enter, must_run)
    return app


def _changes(
    app: FastAPI,
    orlop: Orlop,
    table: str,
    enter: Callable[..., str],
    must_run: Callable[[], None],
) -> None:
    """PUT and DELETE of the objects of one list."""
    inventory = orlop.inventory

    @app.put(f"/{table}/{{name}}")
    async def put(name: str, request: Request, who: Annotated[str, Depends(enter)]) -> None:
        must_run()
        inventory.change(who, table, name, await request.json())

    @app.delete(f"/{table}/{{name}}")
    def delete(name: str, who: Annotated[str, Depends(enter)]) -> None:
        must_run()
        if name not in inventory.lists[table]:
            raise HTTPException(404, f"no such thing in {table}")
        inventory.change(who, table, name, None)
