"""Connections of systems that push at a site, or fetch what a restore offers: the site's worker
takes them and carries them to the service's receiving end.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

import structlog

from fennox.core.errors import BadInput, Conflict
from fennox.links.base import Address, parse_address

_PORT = 2022
_AT_ONCE, _OF_ONE = 64, 16  # connections, and of one address: nobody shuts out the others

log: Any = structlog.get_logger()


@dataclass(frozen=True)
class TakesPushes:
    """Where a worker listens for pushes, and what systems are to connect to."""

    at: Address
    told: Address


def takes_pushes(at: str | None, told: str | None) -> TakesPushes | None:
    """By ``--drop`` and ``--drop-told``."""
    if at is None:
        if told is not None:
            raise BadInput(
                "--drop-told is what systems connect to, and nothing listens.",
                "Say with --drop HOST:PORT where.",
            )
        return None
    here = parse_address(at, _PORT)
    if told is None and here.host in ("0.0.0.0", "::"):  # noqa: S104
        raise BadInput(
            f"No system can connect to {here.host}.",
            "Say with --drop-told HOST what they connect to.",
        )
    return TakesPushes(here, parse_address(told, here.port) if told else here)


@dataclass
class Pushes:
    """``carry``: relays one connection of this address until it ends; it raises nothing."""

    carry: Callable[[str, asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]
    _tasks: set[asyncio.Task[None]] = field(default_factory=set)
    _of: Counter[str] = field(default_factory=Counter)
    _server: asyncio.Server | None = None

    async def listen(self, takes: TakesPushes) -> None:
        """Raises Conflict if the address cannot be listened on."""
        try:
            self._server = await asyncio.start_server(self._come, takes.at.host, takes.at.port)
        except OSError as error:
            raise Conflict(
                f"{takes.at} cannot be listened on: {error.strerror or error}.",
                "Give another address with --drop.",
            ) from error
        log.info("takes pushes", address=str(takes.at), told=str(takes.told))

    async def _come(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        peer, task = str(writer.get_extra_info("peername")[0]), asyncio.current_task()
        if task is None or self._of[peer] >= _OF_ONE or self._of.total() >= _AT_ONCE:
            writer.close()
            return
        self._tasks.add(task)
        self._of[peer] += 1
        try:
            await self.carry(peer, reader, writer)
        finally:
            self._tasks.discard(task)
            self._of -= Counter({peer: 1})  # keeps no address that has gone
            writer.close()

    async def close(self) -> None:
        if self._server is not None:
            self._server.close()
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
