"""Serving one host; after a load it restarts by itself."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path

import asyncssh

from saltmere.keelson.guests import Guests
from saltmere.keelson.installation import Installation
from saltmere.keelson.interface import make_app
from saltmere.keelson.shell import serve
from saltmere.secure_server import serve_until_restart


class _Shell:
    """The remote shell, as it is switched."""

    def __init__(self, installation: Installation, port: int, loaded: Callable[[], None]) -> None:
        self.installation, self.port, self.loaded = installation, port, loaded
        self._acceptor: asyncssh.SSHAcceptor | None = None

    async def follow(self) -> None:
        on = self.installation.get("state")["shell"]
        if on and self._acceptor is None:
            host = self.installation.get("network")["host"]
            self._acceptor = await serve(self.installation, host, self.port, self.loaded)
        elif not on:
            await self.close()

    async def close(self) -> None:
        if self._acceptor is not None:
            self._acceptor.close()
            await self._acceptor.wait_closed()
            self._acceptor = None


async def run(
    installation: Installation, shell_port: int, now: Callable[[], float], clock: Path | None
) -> None:
    folder = installation.folder
    guests = Guests(folder / "disks", clock)
    while True:
        installation.take_effect()
        for name, machine in installation.table("machines").items():
            guests.switch(name, machine, on=bool(machine.get("on")))
        restart = asyncio.Event()
        shell = _Shell(installation, shell_port, restart.set)
        network = installation.get("network")
        app, host, port = (
            make_app(installation, now, shell.follow, guests),
            network["host"],
            network["port"],
        )
        await shell.follow()
        restarts = await serve_until_restart(app, folder, host, port, restart, lingers=lambda: 0.1)
        await shell.close()
        if not restarts:
            return
