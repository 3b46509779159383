"""Serving one host; after a load it restarts by itself."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import suppress

import asyncssh

from saltmere.keelson.installation import Installation
from saltmere.keelson.interface import make_app
from saltmere.keelson.shell import serve
from saltmere.secure_server import secure_server

_RESTARTS_IN = 0.4  # seconds


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


async def run(installation: Installation, shell_port: int, now: Callable[[], float]) -> None:
    folder = installation.folder
    while True:
        installation.take_effect()
        restart = asyncio.Event()
        shell = _Shell(installation, shell_port, restart.set)
        network = installation.get("network")
        server = secure_server(
            make_app(installation, now, shell.follow), folder, network["host"], network["port"]
        )
        await shell.follow()
        serving = asyncio.create_task(server.serve())
        waiting = asyncio.create_task(restart.wait())
        await asyncio.wait({serving, waiting}, return_when=asyncio.FIRST_COMPLETED)
        if serving.done():
            await shell.close()
            return
        await asyncio.sleep(0.1)  # the answer goes out first
        await shell.close()
        server.should_exit = True
        with suppress(asyncio.CancelledError):
            await serving
        await asyncio.sleep(_RESTARTS_IN)
