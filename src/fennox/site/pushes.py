"""Connections of systems that push at a site, or fetch what a restore offers: the site's worker
takes them and carries them to the service's receiving end.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import structlog

from fennox.core.errors import BadInput, Conflict
from fennox.core.evidence.pushes import CarriedProtocol
from fennox.links.base import Address, parse_address, why_not_listening

_PORT, _FTPS_PORT = 2022, 2121
_PASSIVE = "50000-50015"
_MOST_PASSIVE = 256  # ports, each of which is listened on
_AT_ONCE, _OF_ONE = 64, 16  # connections, and of one address: nobody shuts out the others

log: Any = structlog.get_logger()


@dataclass(frozen=True)
class ListensAt:
    """Where a worker listens, and what systems are to connect to."""

    at: Address
    told: Address


@dataclass(frozen=True)
class TakesPushes:
    """``passive``: the ports of FTP's data connections, FIRST-LAST."""

    sftp: ListensAt | None
    ftps: ListensAt | None
    passive: str

    def ports(self) -> range:
        if self.ftps is None:
            return range(0)
        first, last = map(int, self.passive.split("-"))
        return range(first, last + 1)


@dataclass(frozen=True)
class Came:
    """A connection of a system. ``port``: where a data connection came to; 0: it is none."""

    peer: str
    protocol: CarriedProtocol
    port: int


def takes_pushes(
    sftp: str | None, ftps: str | None, passive: str | None, told: str | None
) -> TakesPushes | None:
    """By ``--drop``, ``--drop-ftps``, ``--drop-passive`` and ``--drop-told``."""
    if sftp is None and ftps is None:
        for word, given in (("--drop-told", told), ("--drop-passive", passive)):
            if given is not None:
                raise BadInput(
                    f"{word} is of no use, as nothing listens.",
                    "Say where with --drop HOST:PORT or --drop-ftps HOST:PORT.",
                )
        return None
    if passive is not None and ftps is None:
        raise BadInput(
            "--drop-passive is for FTP with TLS, which is not taken.",
            "Say where with --drop-ftps HOST:PORT.",
        )
    takes = TakesPushes(
        _listening(sftp, told, _PORT) if sftp else None,
        _listening(ftps, told, _FTPS_PORT, port_told=False) if ftps else None,
        _passive(passive or _PASSIVE),
    )
    if takes.sftp is not None and takes.ftps is not None and takes.sftp.at == takes.ftps.at:
        raise BadInput("Two protocols cannot listen on one port.", "Give each its own.")
    return takes


def _listening(at: str, told: str | None, port: int, *, port_told: bool = True) -> ListensAt:
    here = parse_address(at, port)
    if told is None and here.host in ("0.0.0.0", "::"):  # noqa: S104
        raise BadInput(
            f"No system can connect to {here.host}.",
            "Say with --drop-told HOST what they connect to.",
        )
    if told is None:
        return ListensAt(here, here)
    there = parse_address(told, here.port)
    return ListensAt(here, there if port_told else Address(there.host, here.port))


def _passive(given: str) -> str:
    first, _, last = given.partition("-")
    if not (first.isdecimal() and last.isdecimal() and 0 < int(first) <= int(last) < 65536):
        raise BadInput(f"{given!r} is no range of ports.", "Write --drop-passive 50000-50015.")
    if int(last) - int(first) >= _MOST_PASSIVE:
        raise BadInput(
            f"{given} are too many ports: each is listened on.",
            f"Give {_MOST_PASSIVE} at most; one serves one file at a time.",
        )
    return given


@dataclass
class Pushes:
    """``carry``: relays one connection until it ends; it raises nothing."""

    carry: Callable[[Came, asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]
    _tasks: set[asyncio.Task[None]] = field(default_factory=set)
    _of: Counter[str] = field(default_factory=Counter)
    _servers: list[asyncio.Server] = field(default_factory=list)

    async def listen(self, takes: TakesPushes) -> None:
        """Raises Conflict if an address cannot be listened on."""
        if takes.sftp is not None:
            await self._listen(takes.sftp.at, "sftp", 0, "--drop")
            log.info("takes pushes", protocol="sftp", told=str(takes.sftp.told))
        if takes.ftps is not None:
            await self._listen(takes.ftps.at, "ftps", 0, "--drop-ftps")
            for port in takes.ports():
                there = Address(takes.ftps.at.host, port)
                await self._listen(there, "ftps", port, "--drop-passive")
            told = str(takes.ftps.told)
            log.info("takes pushes", protocol="ftps", told=told, passive=takes.passive)

    async def _listen(self, at: Address, protocol: CarriedProtocol, port: int, word: str) -> None:
        try:
            server = await asyncio.start_server(
                partial(self._come, protocol, port), at.host, at.port
            )
        except OSError as error:
            await self.close()
            raise Conflict(
                f"{at} cannot be listened on: {why_not_listening(error)}.",
                f"Say otherwise with {word}.",
            ) from error
        self._servers.append(server)

    async def _come(
        self,
        protocol: CarriedProtocol,
        port: int,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
    ) -> None:
        peer, task = str(writer.get_extra_info("peername")[0]), asyncio.current_task()
        if task is None or self._of[peer] >= _OF_ONE or self._of.total() >= _AT_ONCE:
            writer.close()
            return
        self._tasks.add(task)
        self._of[peer] += 1
        try:
            await self.carry(Came(peer, protocol, port), reader, writer)
        finally:
            self._tasks.discard(task)
            self._of -= Counter({peer: 1})  # keeps no address that has gone
            writer.close()

    async def close(self) -> None:
        for server in self._servers:
            server.close()
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
