"""The HTTPS server of an appliance, with the certificate that it made for itself."""

from __future__ import annotations

from pathlib import Path

import uvicorn
from fastapi import FastAPI


def secure_server(app: FastAPI, folder: Path, host: str, port: int) -> uvicorn.Server:
    """``folder``: where :func:`~saltmere.certificates.make_certificate` has put it."""
    return uvicorn.Server(
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
