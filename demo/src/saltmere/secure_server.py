"""The HTTPS server of an appliance, with the certificate that it made for itself."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import uvicorn
from fastapi import FastAPI

_RESTARTS_IN = 0.4  # seconds


async def serve_until_restart(
    app: FastAPI,
    folder: Path,
    host: str,
    port: int,
    restart: asyncio.Event,
    *,
    lingers: Callable[[], float] = lambda: 0.05,
) -> bool:
    """Whether it is to restart, and not to end. ``folder``: where
    :func:`~saltmere.certificates.make_certificate` has put its certificate; ``lingers``: seconds
    for which it goes on answering, so that the answer goes out first.
    """
    server = uvicorn.Server(
        uvicorn.Config(
            app,
            host=host,
            port=port,
            ssl_certfile=folder / "certificate.pem",
            ssl_keyfile=folder / "certificate.key",
            log_level="warning",
            access_log=False,
            timeout_graceful_shutdown=1,
        )
    )
    serving = asyncio.create_task(server.serve())
    waiting = asyncio.create_task(restart.wait())
    await asyncio.wait({serving, waiting}, return_when=asyncio.FIRST_COMPLETED)
    waiting.cancel()
    if serving.done():
        return False
    await asyncio.sleep(lingers())
    server.should_exit = True
    with suppress(asyncio.CancelledError):
        await serving
    await asyncio.sleep(_RESTARTS_IN)
    return True
