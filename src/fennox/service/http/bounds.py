"""Limits on size and slowness of requests, enforced before reading, so that nobody can stop the
service.
"""

from __future__ import annotations

import asyncio
import re
from collections import Counter
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Message, Receive, Scope, Send
from uvicorn.protocols.http.h11_impl import H11Protocol

from fennox.core.errors import FennoxError, NotSignedIn, TooLarge, TryLater
from fennox.service.http.access import COOKIE
from fennox.service.http.problems import problem_of

if TYPE_CHECKING:
    import h11

_MOST = 1024 * 1024  # bytes of a body, unless its route allows more
_OF_ITS_ROUTE = re.compile(r"/api/v1/systems/[^/]+/hand-ins$")  # which enforces its own limit
_BEFORE_SIGNING_IN = {
    "/api/v1/session",
    "/api/v1/session/passkey/begin",
    "/api/v1/session/passkey",
    "/api/v1/session/provider/begin",
    "/api/v1/session/provider",
    "/api/v1/session/provider/logout",
    "/api/v1/first-user",
}
_SILENCE = 30.0  # seconds between two pieces of a body
_CONNECTIONS = 200  # of one address
_HEADER = 10.0  # seconds within which a request's header must arrive


@dataclass
class BoundedBodies:
    """Rejects bodies that are too large, or from callers not signed in, before reading them."""

    app: ASGIApp

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD"):
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        bounded = _OF_ITS_ROUTE.match(scope["path"]) is None
        refusal = _refusal(scope["path"], headers, bounded=bounded)
        if refusal is not None:
            answer = problem_of(refusal)
            answer.headers["connection"] = (
                "close"  # otherwise the rest of the body would still be read
            )
            await answer(scope, receive, send)
            return
        taken, over = 0, False

        async def receiving() -> Message:
            nonlocal taken, over
            if over:
                return await receive()
            try:
                async with asyncio.timeout(_SILENCE):
                    message = await receive()
            except TimeoutError as error:
                raise TryLater("The rest of the request did not come.", "Send it again.") from error
            taken += len(message.get("body", b""))
            over = not message.get("more_body", False)
            if bounded and taken > _MOST:
                raise _too_large()
            return message

        await self.app(scope, receiving, send)


def _refusal(path: str, headers: Headers, *, bounded: bool) -> FennoxError | None:
    known = "authorization" in headers or f"{COOKIE}=" in headers.get("cookie", "")
    if not known and path not in _BEFORE_SIGNING_IN:
        return NotSignedIn("You are not signed in.", "Sign in, for example with `fennox sign-in`.")
    length = headers.get("content-length", "0")
    if bounded and (not length.isdigit() or int(length) > _MOST):
        return _too_large()
    return None


def _too_large() -> TooLarge:
    return TooLarge(f"The request is larger than {_MOST // 1024} KiB.", "Send less at a time.")


class BoundedConnection(H11Protocol):
    """Closes idle connections, and connections of an address with too many. ``proxies``: addresses
    shared by many people.
    """

    proxies: frozenset[str] = frozenset()
    _open: Counter[str] = Counter()
    _waiting: asyncio.TimerHandle | None = None
    _counted = False

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        if self._from() not in self.proxies:
            self._open[self._from()] += 1
            self._counted = True
            if self._open[self._from()] > _CONNECTIONS:
                transport.abort()
                return
        self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        self._leave()
        super().connection_lost(exc)

    def handle_websocket_upgrade(self, event: h11.Request) -> None:
        """A site's worker stays connected: another protocol takes over the connection
        and its end.
        """
        self._leave()
        super().handle_websocket_upgrade(event)

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        if self._answers() or self.transport.get_protocol() is not self:
            self._wait_no_longer()
        elif self._waiting is None:
            self._wait()

    def _leave(self) -> None:
        self._wait_no_longer()
        if self._counted:
            self._counted = False
            self._open[self._from()] -= 1
            if not self._open[self._from()]:
                del self._open[self._from()]

    def _from(self) -> str:
        return self.client[0] if self.client else ""

    def _answers(self) -> bool:
        cycle: Any = self.cycle
        return cycle is not None and not cycle.response_complete

    def _wait(self) -> None:
        self._waiting = self.loop.call_later(_HEADER, self._too_slow)

    def _wait_no_longer(self) -> None:
        if self._waiting is not None:
            self._waiting.cancel()
            self._waiting = None

    def _too_slow(self) -> None:
        self._waiting = None
        if not self._answers():
            self.transport.abort()
