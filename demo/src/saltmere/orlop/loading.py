"""Loading a backup into a new deployment."""

from __future__ import annotations

import asyncio
import json
from pathlib import Path
from typing import Any

from saltmere.orlop.backups import opened
from saltmere.orlop.inventory import Inventory
from saltmere.sftp_place import Place, Refused, fetched

LOADS_FOR = 0.5  # seconds in which nothing stops it


class Loading:
    """``state``: see the manual; empty: nothing was asked for."""

    def __init__(self, inventory: Inventory) -> None:
        self.inventory = inventory
        self.state, self.why, self.fetched = "", "", 0
        self._task: asyncio.Task[None] | None = None

    def begin(self, place: Place, passphrase: str) -> None:
        self.state, self.why, self.fetched = "fetching", "", 0
        self._task = asyncio.create_task(self._load(place, passphrase))

    def give_up(self) -> bool:
        """Whether it could be stopped."""
        if self._task is None or self.state not in ("fetching", "checking"):
            return False
        self._task.cancel()
        self.state, self.why = "failed", "given up"
        return True

    async def _load(self, place: Place, passphrase: str) -> None:
        try:
            files = await fetched(place, self._tell)
            self.state = "checking"
            values = json.loads(files.pop("network.json", b"{}"))
            content, history = opened(files, passphrase)
            _use(values, content["settings"])
            if (refuses := self.inventory.folder / "refuses").exists():
                raise Refused(refuses.read_text())
        except (Refused, ValueError, KeyError) as error:
            self.state, self.why = "failed", str(error)
            return
        self.state = "loading"
        mark = self.inventory.folder / "loading"
        mark.touch()
        await asyncio.sleep(LOADS_FOR)
        told = json.dumps({"content": content, "history": history})
        self._loaded.write_text(told)
        mark.unlink()
        self.state = "loaded"

    @property
    def _loaded(self) -> Path:
        return self.inventory.folder / "loaded.json"

    def network(self) -> dict[str, Any] | None:
        """Where the deployment will answer; None: nothing has been loaded."""
        if not self._loaded.exists():
            return None
        network: dict[str, Any] = json.loads(self._loaded.read_text())["content"]["settings"][
            "network"
        ]
        return network

    def take_effect(self) -> None:
        told = json.loads(self._loaded.read_text())
        self.inventory.replace(told["content"], told["history"])

    def _tell(self, count: int) -> None:
        self.fetched = count


def _use(values: dict[str, Any], loaded: dict[str, Any]) -> None:
    """What the folder's ``network.json`` says goes before what the backup says."""
    network = {name: values[name] for name in ("host", "port", "name") if name in values}
    loaded["network"] = {**loaded["network"], **network}
    if "account" not in values:
        return
    if values["account"] and "place" in loaded:
        loaded["place"] = {**loaded["place"], "account": values["account"]}
    else:
        loaded.pop("place", None)
        loaded["schedule"] = {}
