"""Machines that only a worker at their site can reach. The worker relays bytes and knows no secret:
SSH and TLS run between this service and the machine, and the machine's key is checked here. A
worker's connections belong to the process it is connected to, so runs at its site are carried out
there (``claims``).
"""

from __future__ import annotations

import asyncio
import secrets
import socket
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import partial
from typing import Any

import structlog
from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession
from starlette.websockets import WebSocket, WebSocketDisconnect

from fennox.catalogue.models.systems import Site, System
from fennox.core.errors import Conflict, NotFound, Unreachable
from fennox.core.facts.concerns import SITE_CAUSE, ConcernFound
from fennox.links.base import Address, Dial
from fennox.links.relay import relay
from fennox.service.people.tokens import digest
from fennox.wire.machines.sites import REPLACED, Hello, Reach

HEARD_WITHIN = timedelta(seconds=45)  # connected workers report more often
_AWAY = timedelta(minutes=2)  # before a concern: a line may be cut for a moment
_ANSWER = 20.0  # seconds allowed to make a connection

log: Any = structlog.get_logger()


@dataclass
class Connected:
    """A connected worker with its relayed connections."""

    site: str
    control: WebSocket
    streams: set[WebSocket] = field(default_factory=set)


@dataclass
class SiteHub:
    """Site workers connected to this process."""

    _connected: dict[str, Connected] = field(default_factory=dict)
    _awaited: dict[str, tuple[str, asyncio.Future[socket.socket]]] = field(default_factory=dict)

    @property
    def names(self) -> frozenset[str]:
        """Sites reachable from here."""
        return frozenset(self._connected)

    async def join(self, connected: Connected) -> None:
        """Use this worker for the site's connections from now on; dismiss an earlier one."""
        before = self._connected.get(connected.site)
        self._connected[connected.site] = connected
        if before is not None:
            await dismiss(before, REPLACED)

    async def leave(self, connected: Connected) -> bool:
        """Close everything it relayed. Returns whether it was the site's current worker."""
        current = self._connected.get(connected.site) is connected
        if current:
            del self._connected[connected.site]
            for stream, (site, _) in list(self._awaited.items()):
                if site == connected.site:
                    self.refused(site, stream, "the site's worker went away")
        await dismiss(connected, 1001)
        return current

    def dialler(self, site: str) -> Dial:
        return partial(self._dial, site)

    async def _dial(self, site: str, address: Address) -> socket.socket:
        connected = self._connected.get(site)
        if connected is None:
            raise away(site)
        stream = secrets.token_hex(16)
        waiting: asyncio.Future[socket.socket] = asyncio.get_running_loop().create_future()
        self._awaited[stream] = (site, waiting)
        try:
            wanted = Reach(stream=stream, host=address.host, port=address.port)
            try:
                await connected.control.send_text(wanted.model_dump_json())
            except (WebSocketDisconnect, RuntimeError) as error:
                raise away(site) from error
            async with asyncio.timeout(_ANSWER):
                return await waiting
        except BaseException:
            if waiting.done() and not waiting.cancelled() and waiting.exception() is None:
                waiting.result().close()  # too late; nobody waits for it any more
            raise
        finally:
            self._awaited.pop(stream, None)

    def refused(self, site: str, stream: str, reason: str) -> None:
        """The worker could not make a connection."""
        awaited = self._awaited.get(stream)
        if awaited is not None and awaited[0] == site and not awaited[1].done():
            awaited[1].set_exception(ConnectionRefusedError(reason))

    async def carry(self, site: str, stream: str, carrier: WebSocket) -> None:
        """Hand over a connection made by the worker to its waiting caller."""
        site_of, waiting = self._awaited.get(stream, ("", None))
        connected = self._connected.get(site)
        if waiting is None or site_of != site or waiting.done() or connected is None:
            await carrier.close(1008)
            return
        ours, theirs = socket.socketpair()
        if waiting.done():  # given up meanwhile
            theirs.close()
        else:
            waiting.set_result(theirs)
        await self.carry_over(site, ours, carrier)

    async def carry_over(self, site: str, ours: socket.socket, carrier: WebSocket) -> None:
        """Relay until either side ends, or the site's worker goes away."""
        connected = self._connected.get(site)
        if connected is None:
            ours.close()
            await _close(carrier, 1008)
            return
        reader, writer = await asyncio.open_connection(sock=ours)
        connected.streams.add(carrier)
        try:
            await relay(reader, writer, partial(_next, carrier), partial(_send, carrier))
        finally:
            connected.streams.discard(carrier)
            await _close(carrier, 1000)


async def _next(carrier: WebSocket) -> bytes | None:
    try:
        return await carrier.receive_bytes()
    except (WebSocketDisconnect, KeyError):
        return None  # closed, or not one of our messages


async def _send(carrier: WebSocket, block: bytes) -> None:
    try:
        await carrier.send_bytes(block)
    except (WebSocketDisconnect, RuntimeError) as error:  # closed by the other side, or by us
        raise ConnectionResetError from error


async def _close(carrier: WebSocket, code: int) -> None:
    try:
        await carrier.close(code)
    except (WebSocketDisconnect, RuntimeError):
        return  # it is closed


async def dismiss(connected: Connected, code: int) -> None:
    """End everything relayed by a worker."""
    for carrier in [*connected.streams, connected.control]:
        await _close(carrier, code)


def away(site: str) -> Unreachable:
    return Unreachable(
        f"The worker of the site {site} is not connected, and its machines are reached through it.",
        f"Check the machine it runs on: fennox worker run --site '{site}'. `fennox worker sites`"
        " shows it.",
    )


async def is_served(session: AsyncSession, site: str) -> bool:
    """Whether a site's machines are reached through a worker there."""
    return bool(site) and await session.get(Site, site) is not None


async def same_network(session: AsyncSession, one: str, other: str) -> bool:
    """Whether an address means the same machine at both sites."""
    return one == other or not (await is_served(session, one) or await is_served(session, other))


async def said_hello(session: AsyncSession, site: str, hello: Hello, now: datetime) -> None:
    changes = {
        "connected": True,
        "seen": func.now(),
        "machine": hello.machine,
        "version": hello.version,
        "key": hello.key,
        "drop": hello.drop,
        "drop_ftps": hello.drop_ftps,
        "drop_passive": hello.drop_passive,
        "skew": (hello.clock - now).total_seconds(),
    }
    await session.execute(update(Site).where(Site.name == site).values(changes))


async def heard_of(session: AsyncSession, site: str, token_hash: str) -> bool:
    """Record that a worker is present. Returns whether its token is still valid."""
    mine = (Site.name == site, Site.token_hash == token_hash)
    kept = update(Site).where(*mine).values(seen=func.now(), connected=True).returning(Site.name)
    return (await session.execute(kept)).first() is not None


@dataclass(frozen=True)
class SiteDrop:
    """Where systems of a site push to, if its worker takes that: host:port; empty: nowhere."""

    sftp: str = ""
    ftps: str = ""


async def drop_of(session: AsyncSession, site: str) -> SiteDrop:
    row = await session.get(Site, site) if site else None
    return SiteDrop(row.drop or "", row.drop_ftps or "") if row is not None else SiteDrop()


async def gone(session: AsyncSession, site: str) -> None:
    await session.execute(update(Site).where(Site.name == site).values(connected=False))


async def with_systems(session: AsyncSession) -> list[tuple[Site, int]]:
    """Every site, with the number of systems reached through its worker."""
    there = select(Site, func.count(System.id)).outerjoin(
        System, (System.site == Site.name) & System.retired.is_(None)
    )
    rows = await session.execute(there.group_by(Site.name).order_by(Site.name))
    return [(site, systems) for site, systems in rows]


async def concerns(session: AsyncSession) -> list[ConcernFound]:
    """Sites whose worker is absent; their systems cannot be reached."""
    now: datetime = (await session.execute(select(func.now()))).scalar_one()
    found = []
    for site, systems in await with_systems(session):
        if systems == 0 or (site.seen is not None and now - site.seen < _AWAY):
            continue
        last = (
            f"was last heard of at {site.seen:%Y-%m-%d %H:%M} UTC"
            if site.seen
            else "has not come yet"
        )
        many = "system is" if systems == 1 else "systems are"
        found.append(
            ConcernFound(
                "site-away",
                "high",
                "service",
                site.name,
                f"The worker of the site {site.name} {last}.",
                f"Check the machine it runs on: fennox worker run --site '{site.name}'",
                f"{systems} {many} reached through it: what is due there waits, and nothing can be"
                " restored.",
                since=site.seen or site.admitted,
                cause=SITE_CAUSE + site.name,
            )
        )
    return found


async def admit(session: AsyncSession, name: str, by: str, at: datetime, *, anew: bool) -> str:
    """A new token, which revokes the previous one. Raises Conflict if one exists and ``anew`` is
    not set.
    """
    row = await session.get(Site, name, with_for_update=True)
    if row is not None and not anew:
        raise Conflict(
            f"A worker of {name} was admitted already.",
            "Use --anew for another token, which ends the one it has.",
            field="name",
        )
    if row is None:
        row = Site(name=name, by="", admitted=at)
        session.add(row)
    token = secrets.token_urlsafe(32)
    row.token_hash, row.by, row.admitted = digest(token), by, at
    return token


async def revoke(session: AsyncSession, name: str) -> None:
    row = await session.get(Site, name)
    if row is None:
        raise NotFound(
            f"No worker of {name[:64]} was admitted.",
            "`fennox worker sites` shows those there are.",
        )
    await session.delete(row)


async def of_token(session: AsyncSession, token: str) -> Site | None:
    mine = select(Site).where(Site.token_hash == digest(token))
    return (await session.execute(mine)).scalar_one_or_none()
