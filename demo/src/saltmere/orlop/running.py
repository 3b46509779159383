"""Serving one deployment; after a load it restarts by itself."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable
from pathlib import Path

from saltmere.certificates import make_certificate
from saltmere.orlop.interface import Orlop, make_app
from saltmere.orlop.inventory import Inventory
from saltmere.secure_server import serve_until_restart


def deploy(folder: Path, address: str, now: Callable[[], float]) -> None:
    """Make an empty folder a new deployment."""
    inventory = Inventory(folder, now)
    if not inventory.is_new:
        return
    host, _, port = address.rpartition(":")
    id_ = f"ORL-{secrets.token_hex(5).upper()}"
    inventory.change("setup", "settings", "id", id_)
    network = {"host": host, "port": int(port), "name": "orlop"}
    inventory.change("setup", "settings", "network", network)
    inventory.set_administrator("setup", "deploy", "deploy")
    make_certificate(folder, id_)


async def run(folder: Path, fresh_address: str, now: Callable[[], float]) -> None:
    deploy(folder, fresh_address, now)
    while True:
        orlop = Orlop(Inventory(folder, now), now)
        network = orlop.inventory.settings["network"]
        (folder / "answers-at").write_text(f"{network['host']}:{network['port']}")
        pushing = asyncio.create_task(orlop.follow_schedule())
        app, host, port = make_app(orlop), network["host"], network["port"]
        restarts = await serve_until_restart(app, folder, host, port, orlop.restart)
        pushing.cancel()
        if not restarts:
            return
