"""Notifications from the database (PostgreSQL's LISTEN), instead of polling."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

import psycopg

CHANGED = "fennox_changed"  # changes the scheduler acts on; the payload is the name of a duty
_PAUSE = 0.5  # seconds until a lost connection is made again


async def listen(database: str, channel: str, heard: Callable[[str], None]) -> None:
    """Runs until cancelled; reconnects when the connection is lost. ``heard`` is called with each
    payload, and with an empty one after connecting, since something may have been missed.
    """
    address = database.replace("postgresql+psycopg://", "postgresql://", 1)
    while True:
        try:
            async with await psycopg.AsyncConnection.connect(
                address, autocommit=True
            ) as connection:
                await connection.execute(f"listen {channel}")
                heard("")
                while True:
                    async for notice in connection.notifies(timeout=0):
                        heard(notice.payload)
                    await _readable(connection.fileno())
        except psycopg.OperationalError:
            await asyncio.sleep(_PAUSE)


async def _readable(socket: int) -> None:
    """Psycopg's own wait wakes up ten times a second, all day long."""
    loop, event = asyncio.get_running_loop(), asyncio.Event()
    loop.add_reader(socket, event.set)
    try:
        await event.wait()
    finally:
        loop.remove_reader(socket)
