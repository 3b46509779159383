"""Who goes first in a thread that does everything: people who wait for an answer, before duties
that look at all of it.

Between two waits a duty holds the thread for a few milliseconds; an answer that waits a dozen times
for the database would wait a dozen times for the duty as well.
"""

from __future__ import annotations

import asyncio
from contextlib import suppress
from contextvars import ContextVar
from dataclasses import dataclass, field

from sqlalchemy.ext.asyncio import AsyncSession
from starlette.types import ASGIApp, Message, Receive, Scope, Send

_AT_MOST = 0.25  # the longest pause of a duty at one time, in seconds, so that it still finishes
_SHORT = 1.0  # seconds; for an answer that takes longer, others need not wait

_ANSWERS: ContextVar[bool] = ContextVar("answers", default=False)
KEPT_AT = "turns"  # of a session's ``info``


@dataclass
class Turns:
    """The requests that are being answered in this process, and that people have not waited for
    very long.
    """

    _waiting: set[int] = field(default_factory=set)
    _count: int = 0
    _none: asyncio.Event = field(default_factory=asyncio.Event)

    def __post_init__(self) -> None:
        self._none.set()

    def begin(self) -> int:
        _ANSWERS.set(True)  # in the task of this request alone
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
        """Let others have the thread, and those go first who wait; what is itself done for an
        answer does not wait.
        """
        await asyncio.sleep(0)
        if self._waiting and not _ANSWERS.get():
            with suppress(TimeoutError):
                async with asyncio.timeout(_AT_MOST):
                    await self._none.wait()


async def give_way(session: AsyncSession) -> None:
    """As :meth:`Turns.give_way`, in the process that the session is of."""
    turns: Turns | None = session.info.get(KEPT_AT)
    if turns is not None:
        await turns.give_way()


@dataclass
class AnswersFirst:
    """Counts the requests that have not begun to be answered. An answer that streams for long has
    begun.
    """

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
