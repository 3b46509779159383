"""The web server that carries API and console."""

from __future__ import annotations

import asyncio
import stat
import sys
from contextlib import suppress
from pathlib import Path
from types import FrameType

import uvicorn
from fastapi import FastAPI

from fennox.core.errors import MendSettings
from fennox.service.foundation.settings import Settings
from fennox.service.http.bounds import BoundedConnection

_NOT_STARTED = 3  # uvicorn's exit when it could not start, already logged
_TICK = 1.0  # seconds between updates of the Date header


class _Server(uvicorn.Server):
    """Like uvicorn's server, but waits for the stop signal instead of polling ten times
    a second.
    """

    _told: asyncio.Event | None = None

    async def main_loop(self) -> None:
        self._told = asyncio.Event()
        self._loop = asyncio.get_running_loop()
        while not await self.on_tick(0):
            with suppress(TimeoutError):
                async with asyncio.timeout(_TICK):
                    await self._told.wait()

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        super().handle_exit(sig, frame)
        if self._told is not None:
            self._loop.call_soon_threadsafe(self._told.set)


def _must_be_ours_alone(key: Path) -> None:
    """Group read access is allowed, as for Debian's ssl-cert, but not write access."""
    try:
        mode = stat.S_IMODE(key.stat().st_mode)
    except OSError as error:
        raise MendSettings(
            f"{key} cannot be read ({type(error).__name__}).", "Mend tls_key."
        ) from error
    if mode & 0o037:
        raise MendSettings(f"Others may read or change {key}.", f"Run: chmod 640 {key}")


def run(app: FastAPI, settings: Settings) -> None:
    """Serve until a signal ends it. Raises ``MendSettings`` if others may read the key of its
    certificate.
    """
    if settings.tls_key is not None:
        _must_be_ours_alone(settings.tls_key)
    proxies = frozenset(one.strip() for one in settings.proxies.split(",") if one.strip())
    server = _Server(
        uvicorn.Config(
            app,
            host=settings.host,
            port=settings.port,
            ssl_certfile=settings.tls_certificate,
            ssl_keyfile=settings.tls_key,
            log_level="warning",
            access_log=False,
            timeout_graceful_shutdown=3,
            server_header=False,
            http=type("_Connection", (BoundedConnection,), {"proxies": proxies}),
            # otherwise a local caller could claim any address and bypass the limit on sign-ins
            proxy_headers=bool(proxies),
            forwarded_allow_ips=sorted(proxies),
        )
    )
    with suppress(KeyboardInterrupt):
        server.run()
    if not server.started:
        sys.exit(_NOT_STARTED)
