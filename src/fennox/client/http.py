"""Imports httpx without its command line. httpx loads that wherever ``click`` is installed, with a
highlighter and more: a third of a command's start-up time.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def _without(module: str) -> Iterator[None]:
    """Makes its import fail meanwhile (language reference §5.3.1)."""
    there = sys.modules.get(module)
    sys.modules[module] = None  # type: ignore[assignment]
    try:
        yield
    finally:
        if there is None:
            del sys.modules[module]
        else:
            sys.modules[module] = there


with _without("click"):
    import httpx
    from httpx_sse import connect_sse

__all__ = ["connect_sse", "httpx"]
