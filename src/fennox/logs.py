"""How a long-running process of ours writes its log: events with keys, for people or as JSON."""

from __future__ import annotations

import logging
from typing import Any

import structlog


def start(form: str) -> None:
    """``form``: ``json``, else for people."""
    renderer: Any = (
        structlog.processors.JSONRenderer()
        if form == "json"
        else structlog.dev.ConsoleRenderer(
            exception_formatter=structlog.dev.plain_traceback  # the pretty one prints local variables, and so secrets
        )
    )
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            renderer,
        ]
    )
    logging.getLogger("asyncssh").setLevel(logging.ERROR)
