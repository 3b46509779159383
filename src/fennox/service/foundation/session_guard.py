"""Keeps stores, machines and expensive hashes out of database sessions.

A store that hangs while a session is open would hold rows and a connection until PostgreSQL ends
the session, and a silent store would look like a dead database. So every outgoing call checks
whether a session is open.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import datetime
from typing import Any

import structlog

from fennox.core.names import ObjectName
from fennox.stores.base import FoundObject, Space, Span, Store, Wrapped

log: Any = structlog.get_logger()

_open: ContextVar[bool] = ContextVar("a database session is open", default=False)
strict = False  # in tests, a call inside a session is an error instead of a log line


@contextmanager
def session_open() -> Iterator[None]:
    before = _open.get()
    _open.set(True)
    try:
        yield
    finally:
        _open.set(before)


def check_outside(what: str) -> None:
    """Check that nothing slow starts inside a session. ``what``: for the log, such as ``put to
    /mnt/depot``.
    """
    if _open.get():
        if strict:
            raise RuntimeError(f"inside a database session: {what}")
        log.error("a slow call was made inside a database session", call=what)


class OutsideSessions(Wrapped):
    """A store whose verbs must not be called inside a database session."""

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        check_outside(f"put to {self.address}")
        await self.inner.put(name, data, retain_until=retain_until)

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        check_outside(f"get from {self.address}")
        return await self.inner.get(name, span)

    async def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        check_outside(f"list of {self.address}")
        async for found in self.inner.list(prefix):
            yield found

    async def stat(self, name: ObjectName) -> FoundObject | None:
        check_outside(f"stat in {self.address}")
        return await self.inner.stat(name)

    async def delete(self, name: ObjectName) -> None:
        check_outside(f"delete in {self.address}")
        await self.inner.delete(name)

    async def space(self) -> Space | None:
        check_outside(f"space of {self.address}")
        return await self.inner.space()


def outside_sessions(store: Store) -> Store:
    return OutsideSessions(store)
