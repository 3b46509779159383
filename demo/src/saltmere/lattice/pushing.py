"""Pushing files to a place: when asked, by the clock, or for every change."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
from collections.abc import Callable, Coroutine
from datetime import UTC, datetime
from typing import Any

from saltmere.lattice.cluster import Cluster
from saltmere.sftp_place import Place, Refused, fetched, host_key, push

_LOOKS_EVERY = 0.5  # seconds


class Pushing:
    def __init__(self, cluster: Cluster, now: Callable[[], float]) -> None:
        self.cluster, self.now = cluster, now
        self.runs: dict[str, dict[str, str]] = {}
        self.loading: dict[str, str] = {"state": "none", "why": ""}
        self._tasks: set[asyncio.Task[None]] = set()
        self._one = asyncio.Lock()

    def begin(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def run(self, sort: str) -> str:
        run = secrets.token_hex(4)
        self.runs[run] = {"state": "running", "why": ""}
        self.begin(self._push(run, sort))
        return run

    async def _push(self, run: str, sort: str) -> None:
        stamp = datetime.fromtimestamp(self.now(), UTC).strftime("%Y%m%dT%H%M%S.%f")[:-3]
        name = f"{self.cluster.get('active')}_{stamp}-{run}_{sort}"
        data = self.cluster.file().encode()
        line = f"{hashlib.sha256(data).hexdigest()}  {name}.cfg\n"
        try:
            async with self._one:
                files = {f"{name}.cfg": data, f"{name}.sum": line.encode()}
                await push(await self._place(), files, [])
            self.runs[run] = {"state": "done", "why": ""}
        except Refused as error:
            self.runs[run] = {"state": "failed", "why": str(error)}

    async def _place(self) -> Place:
        """With the key that was learned at the first contact."""
        told = self.cluster.get("place")
        if told is None:
            raise Refused("no place has been set")
        if not self.cluster.get("learned"):
            self.cluster.set("learned", await host_key(told["host"], int(told["port"])))
        return Place.told({**told, "key": self.cluster.get("learned")})

    def changed(self) -> None:
        if self.cluster.get("schedule").get("on") == "change":
            self.run("own")

    async def follow_schedule(self) -> None:
        while True:
            schedule = self.cluster.get("schedule")
            due = self.cluster.get("last") + float(schedule.get("hours", 24)) * 3600
            if schedule.get("on") == "clock" and self.now() >= due:
                self.cluster.set("last", self.now())
                self.run("own")
            await asyncio.sleep(_LOOKS_EVERY)

    async def load(self, told: dict[str, Any]) -> None:
        try:
            key = await host_key(told["host"], int(told["port"]))
            files = await fetched(Place.told({**told, "key": key}), lambda _count: None)
            found = [data for name, data in files.items() if name.endswith(".cfg")]
            if len(found) != 1:
                raise Refused(f"there are {len(found)} files, and one is wanted")
            self.cluster.load(found[0].decode())
            self.loading = {"state": "loaded", "why": ""}
        except Refused as error:
            self.loading = {"state": "failed", "why": str(error)}
