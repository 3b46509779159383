"""Logging of long-running processes: events with keys, for people or as JSON."""

from __future__ import annotations

import logging
import sys
from collections.abc import MutableMapping
from typing import Any

import structlog

from fennox.core.names import printable


def start(form: str) -> None:
    """``form``: ``json``, else for people."""
    renderer: Any = (
        structlog.processors.JSONRenderer()
        if form == "json"
        else structlog.dev.ConsoleRenderer(
            # the rich formatter prints local variables, and so secrets
            exception_formatter=structlog.dev.plain_traceback
        )
    )
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            _visible,
            renderer,
        ],
        # the colours are our own; the command line's stream would escape them
        logger_factory=structlog.PrintLoggerFactory(
            getattr(sys.stdout, "rich_proxied_file", sys.stdout)
        ),
    )
    logging.getLogger("asyncssh").setLevel(logging.ERROR)


def _visible(
    _logger: Any, _method: str, event: MutableMapping[str, Any]
) -> MutableMapping[str, Any]:
    """Text from machines and people adds no lines and does not control the terminal."""
    for name, value in event.items():
        if isinstance(value, str) and name != "exception" and not value.isprintable():
            event[name] = printable(value)
    return event
