"""The worker of a site: connects to the service over HTTPS, makes connections at the site on
request, and carries their bytes.

It stores nothing, and listens nowhere unless it is to take pushes (``--drop``), which it carries to
the service's receiving end. It relays SSH and TLS between the service and the machines, so it
learns no login and no content; it can only refuse. ``here`` is the machine it runs on
(``here.py``).
"""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import secrets
import socket
import ssl
from collections.abc import AsyncGenerator, Generator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any, cast
from urllib.parse import urlencode

import structlog
from pydantic import ValidationError
from websockets.asyncio.client import ClientConnection, connect
from websockets.client import process_exception
from websockets.exceptions import ConnectionClosed, InvalidStatus, InvalidURI

from fennox import __version__
from fennox.core import urls
from fennox.core.errors import BadInput, Conflict, FennoxError, NotSignedIn, Unreachable
from fennox.core.names import printable
from fennox.links.relay import relay
from fennox.site.here import OwnMachine
from fennox.site.pushes import Came, Pushes, TakesPushes
from fennox.wire.machines.sites import HERE, REPLACED, REVOKED, Hello, Reach, Refused

Network = ipaddress.IPv4Network | ipaddress.IPv6Network

_CONNECT = 12.0  # seconds for a connection to a machine

log: Any = structlog.get_logger()


def networks(texts: Sequence[str]) -> list[Network]:
    """Networks given with ``--only``, such as 10.20.0.0/16."""
    try:
        return [ipaddress.ip_network(text) for text in texts]
    except ValueError as error:
        raise BadInput(
            f"{error}.", "Write a network, like 10.20.0.0/16, or one address.", field="only"
        ) from error


@dataclass
class Carrier:
    """One site's worker. ``only``: the networks it connects to; empty: all. ``here``: the service
    may read and restore this machine itself. ``drop``: it takes pushes for the service's
    receiving end. ``authority``: verifies the service's certificate,
    instead of this machine's authorities.
    """

    service: str
    site: str
    token: str = field(repr=False)
    only: Sequence[Network] = ()
    here: bool = False
    authority: Path | None = None
    drop: TakesPushes | None = None
    _own: OwnMachine = field(init=False)
    _context: ssl.SSLContext | None = field(init=False)
    _carried: set[asyncio.Task[None]] = field(default_factory=set)

    def __post_init__(self) -> None:
        place = urls.split(self.service, field="service")
        if place.scheme == "http" and not _is_own(place.hostname or ""):
            raise BadInput(
                "The token is not sent in clear.",
                "Give the service's https:// address.",
                field="service",
            )
        if place.scheme not in ("http", "https") or not place.hostname:
            raise BadInput(
                f"{self.service!r} is no address of a service.",
                "Write https://host:port.",
                field="service",
            )
        self._context = _trusting(self.authority) if place.scheme == "https" else None
        self._own = OwnMachine(self.token)

    @property
    def fingerprint(self) -> str:
        """This machine's host key, for the system read as ``here``."""
        return self._own.fingerprint

    async def carry(self) -> None:
        """Runs until cancelled or dismissed; reconnects after a broken connection. Raises:
        NotSignedIn: the token is no longer valid. Conflict: another worker of the site has
        connected.
        """
        pushes = Pushes(self._push)
        if self.drop is not None:
            await pushes.listen(self.drop)
        try:
            async with contextlib.aclosing(self._lines()) as lines:
                async for control in lines:
                    with contextlib.suppress(ConnectionClosed):
                        await self._hear(control)
                    _judge_closing(control.close_code, self.site)
                    log.warning("the line to the service was cut", code=control.close_code)
        except InvalidStatus as error:
            raise _refused(error, self.site) from error
        except InvalidURI as error:
            raise BadInput(
                f"{self.service!r} is no address of a service.", "Write https://host:port."
            ) from error
        finally:
            await pushes.close()
            for task in self._carried:
                task.cancel()
            await asyncio.gather(*self._carried, return_exceptions=True)

    def _lines(self) -> AsyncGenerator[ClientConnection, None]:
        """One connection after the other; a caller that stops early must close the generator."""
        return cast(AsyncGenerator[ClientConnection, None], aiter(self._connect("worker")))

    def _connect(self, path: str) -> connect:
        base = self.service.rstrip("/").replace("http", "ws", 1)
        return connect(
            f"{base}/api/v1/sites/{path}",
            additional_headers={"Authorization": f"Bearer {self.token}"},
            ssl=self._context,
            compression=None,  # no compression: the traffic is encrypted
            max_size=4 * 1024 * 1024,
            reconnect_delays=_pauses,
            process_exception=_judge,
        )

    async def _hear(self, control: ClientConnection) -> None:
        key = self.fingerprint if self.here else ""
        takes = self.drop or TakesPushes(None, None, "")
        hello = Hello(
            version=__version__,
            machine=socket.gethostname(),
            key=key,
            clock=datetime.now(UTC),
            drop=str(takes.sftp.told) if takes.sftp is not None else "",
            drop_ftps=str(takes.ftps.told) if takes.ftps is not None else "",
            drop_passive=takes.passive if takes.ftps is not None else "",
        )
        # a service that knows nothing of drops at sites refuses what it does not know
        await control.send(hello.model_dump_json(exclude_defaults=True))
        log.info("connected", service=self.service, site=self.site)
        async for message in control:
            try:
                wanted = Reach.model_validate_json(message)
            except ValidationError:
                log.warning(
                    "the service said something that is not known", hint="update this worker"
                )
                continue
            task = asyncio.create_task(self._reach(control, wanted))
            self._carried.add(task)
            task.add_done_callback(self._carried.discard)

    async def _push(
        self, came: Came, reader: asyncio.StreamReader, writer: asyncio.StreamWriter
    ) -> None:
        whence = urlencode({"peer": came.peer, "protocol": came.protocol, "port": came.port})
        try:
            async with asyncio.timeout(_CONNECT):
                carrier = await self._connect(f"drop?{whence}")
            async with carrier:
                await relay(reader, writer, partial(_next, carrier), partial(_send, carrier))
        except (OSError, TimeoutError, InvalidStatus, ConnectionClosed) as error:
            log.warning("a push was not carried", peer=came.peer, reason=type(error).__name__)

    async def _reach(self, control: ClientConnection, wanted: Reach) -> None:
        place = f"{printable(wanted.host)}:{wanted.port}"
        try:
            async with asyncio.timeout(_CONNECT):
                reader, writer = await self._open(wanted)
        except (OSError, TimeoutError, FennoxError) as error:
            reason = "no answer" if isinstance(error, TimeoutError) else printable(str(error))[:300]
            log.info("refused", address=place, reason=reason)
            with contextlib.suppress(ConnectionClosed):
                await control.send(Refused(stream=wanted.stream, reason=reason).model_dump_json())
            return
        log.info("connected to a machine", address=place)
        try:
            async with self._connect(f"streams/{wanted.stream}") as carrier:
                await relay(reader, writer, partial(_next, carrier), partial(_send, carrier))
        except (OSError, TimeoutError, InvalidStatus, ConnectionClosed) as error:
            log.warning("a connection was not carried", address=place, reason=type(error).__name__)
        finally:
            writer.close()

    async def _open(self, wanted: Reach) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        if wanted.host == HERE:
            if not self.here:
                raise Unreachable(
                    "this worker does not let its own machine be read", "Start it with --here."
                )
            return await self._own.open()
        for address in await self._allowed(wanted.host, wanted.port):
            try:
                return await asyncio.open_connection(address, wanted.port)
            except OSError as error:
                last = error
        raise last

    async def _allowed(self, host: str, port: int) -> list[str]:
        """The host's allowed addresses, checked after resolving its name."""
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
        addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
        if self.only:
            addresses = [
                one
                for one in addresses
                if any(ipaddress.ip_address(one) in net for net in self.only)
            ]
        if not addresses:
            raise Unreachable(
                f"{host} is in none of the networks that this worker connects to", "See --only."
            )
        return addresses


def _pauses() -> Generator[float, None, None]:
    """Seconds between attempts to reconnect: short, then longer, with jitter between sites."""
    pause = 1.0
    while True:
        yield pause * (0.75 + secrets.randbelow(500) / 1000)
        pause = min(pause * 2, 30.0)


def _is_own(host: str) -> bool:
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def _judge(error: Exception) -> Exception | None:
    """The error that ends the worker, or None to try again."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return Unreachable(
            f"The service's certificate is not trusted here: {error.verify_message}.",
            "If its authority is your own, give --authority FILE.",
        )
    if process_exception(error) is not None:
        return error
    log.info("the service does not answer", reason=printable(str(error))[:200])
    return None


def _trusting(authority: Path | None) -> ssl.SSLContext:
    try:
        return ssl.create_default_context(cafile=authority)
    except (OSError, ssl.SSLError) as error:
        raise BadInput(
            f"{authority} holds no certificate of an authority ({type(error).__name__}).",
            "Give a PEM file.",
        ) from error


def _judge_closing(code: int | None, site: str) -> None:
    if code == REVOKED:
        raise NotSignedIn(
            f"The token of the site {site} was revoked.",
            f"Ask for another: fennox worker admit '{site}' --anew",
        )
    if code == REPLACED:
        raise Conflict(
            f"Another worker of the site {site} has come and took over.",
            "Run one for a site, with one token.",
        )


def _refused(error: InvalidStatus, site: str) -> FennoxError:
    status = error.response.status_code
    if status in (401, 403):
        return NotSignedIn(
            f"The service does not know the token for {site}.",
            f"Make one: fennox worker admit '{site}'",
        )
    return Unreachable(f"The service answers {status}.", "Check its address.")


async def _next(carrier: ClientConnection) -> bytes | None:
    try:
        message = await carrier.recv()
    except ConnectionClosed:
        return None
    return message if isinstance(message, bytes) else None


async def _send(carrier: ClientConnection, block: bytes) -> None:
    try:
        await carrier.send(block)
    except ConnectionClosed as error:
        raise ConnectionResetError from error
