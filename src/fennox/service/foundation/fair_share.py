"""Priority in a single thread: people waiting for an answer go before duties that process the whole
estate. A duty holds the thread for a few milliseconds between two awaits; a request with a dozen
database queries would wait for the duty a dozen times.
"""

from __future__ import annotations

import asyncio
from contextlib import suppress
from contextvars import ContextVar
from dataclasses import dataclass, field

from sqlalchemy.ext.asyncio import AsyncSession
from starlette.types import ASGIApp, Message, Receive, Scope, Send

_AT_MOST = 0.25  # longest pause of a duty in seconds, so that it still finishes
_SHORT = 1.0  # seconds; longer requests lose their priority

_ANSWERS: ContextVar[bool] = ContextVar("answers", default=False)
KEPT_AT = "turns"  # key in a session's ``info``


@dataclass
class Turns:
    """The requests in progress in this process that have not taken very long yet."""

    _waiting: set[int] = field(default_factory=set)
    _count: int = 0
    _none: asyncio.Event = field(default_factory=asyncio.Event)

    def __post_init__(self) -> None:
        self._none.set()

    def begin(self) -> int:
        _ANSWERS.set(True)  # for this request's task alone
        self._count += 1
        self._waiting.add(self._count)
        self._none.clear()
        asyncio.get_running_loop().call_later(_SHORT, self.end, self._count)
        return self._count

    def end(self, number: int) -> None:
        self._waiting.discard(number)
        if not self._waiting:
            self._none.set()

    async def give_way(self) -> None:
        """Yield the thread to waiting requests; work for a request itself does not wait."""
        await asyncio.sleep(0)
        if self._waiting and not _ANSWERS.get():
            with suppress(TimeoutError):
                async with asyncio.timeout(_AT_MOST):
                    await self._none.wait()


async def give_way(session: AsyncSession) -> None:
    """As :meth:`Turns.give_way`, for the session's process."""
    turns: Turns | None = session.info.get(KEPT_AT)
    if turns is not None:
        await turns.give_way()


@dataclass
class AnswersFirst:
    """Counts requests whose response has not started. A long stream has started."""

    app: ASGIApp
    turns: Turns

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        number = self.turns.begin()

        async def sending(message: Message) -> None:
            await send(message)
            if message["type"] == "http.response.body":
                self.turns.end(number)

        try:
            await self.app(scope, receive, sending)
        finally:
            self.turns.end(number)
