"""What all stores over a network share: connections kept for a while, one fresh try, and errors of
our own.

A protocol implements the verbs for one open session; this class opens sessions when they are
needed, keeps them for the next verb, and closes them when nothing has been asked for a minute. A
verb that may be repeated is tried once more over a fresh connection when the old one turns out to
be dead; a put is not, unless nothing of it can have happened.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from datetime import datetime, timedelta
from typing import ClassVar, Generic, Protocol, TypeVar

from fennox.core.errors import (
    Conflict,
    Damaged,
    FennoxError,
    NotFound,
    StoreUnusable,
    Unreachable,
    WrongLogin,
)
from fennox.core.names import ObjectName
from fennox.stores.addresses import StoreAddress
from fennox.stores.base import Abilities, Entry, FoundObject, Keep, Space, Span, found, unfinished

IDLE = 60.0  # seconds an idle connection is kept
_LIMIT = 120.0  # seconds for one verb on one object


class Session(Protocol):
    async def close(self) -> None: ...


S = TypeVar("S", bound=Session)
T = TypeVar("T")


class RemoteStore(Generic[S]):
    """Base of the protocols. ``together``: how many verbs one session carries at a time (0: any
    number).
    """

    abilities: Abilities
    together: ClassVar[int] = 0

    def __init__(self, address: StoreAddress, *, limit: float = _LIMIT) -> None:
        self._address = address
        self._limit = limit
        self._idle: list[S] = []
        self._shared: S | None = None
        self._opening = asyncio.Lock()
        self._users = 0
        self._timer: asyncio.TimerHandle | None = None
        self._closing: set[asyncio.Task[None]] = set()

    @property
    def address(self) -> str:
        return str(self._address)

    # to be implemented by a protocol

    async def _open(self) -> S:
        raise NotImplementedError

    def _translated(self, error: Exception, doing: str) -> FennoxError | None:
        """An error of the protocol's library as one of ours; None for any other error."""
        raise NotImplementedError

    async def _put(
        self, session: S, name: ObjectName, data: bytes, retain_until: datetime | None
    ) -> None:
        raise NotImplementedError

    async def _get(self, session: S, name: ObjectName, span: Span | None) -> bytes:
        raise NotImplementedError

    async def _walk(self, session: S, prefix: str, keep: Keep) -> Sequence[FoundObject]:
        raise NotImplementedError

    async def _look(self, session: S, name: ObjectName) -> FoundObject | None:
        raise NotImplementedError

    async def _remove(self, session: S, name: ObjectName) -> None:
        raise NotImplementedError

    async def _room(self, session: S) -> Space | None:
        raise NotImplementedError

    async def _entries(self, session: S, path: str) -> Sequence[Entry]:
        raise NotImplementedError

    async def _landed(self, session: S) -> str:
        raise NotImplementedError

    async def _locked(self, session: S, name: ObjectName) -> datetime | None:
        return None

    async def _extend(self, session: S, name: ObjectName, until: datetime) -> None:
        raise NotImplementedError

    @property
    def lock(self) -> timedelta | None:
        days = int(self._address.options.get("lock-days", "0"))
        return timedelta(days=days) if days else None

    # the verbs

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        if retain_until is not None and not self.abilities.retention:
            raise StoreUnusable(
                f"{self.address} cannot lock objects until a date.", "Use a store that can."
            )

        async def act(session: S) -> None:
            await self._put(session, name, data, retain_until)

        try:
            await self._with(f"write {name}", act, again=False)
        except Unreachable:
            # The response was lost, perhaps after the effect: the object itself decides
            # (store-format §13.5).
            there = await self.stat(name)
            if there is None:
                await self._with(f"write {name}", act, again=False)
            elif there.size != len(data) or await self.get(name) != data:
                raise

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        return await self._with(f"read {name}", lambda session: self._get(session, name, span))

    async def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        doing = f"list {prefix or 'the store'}"
        for item in await self._with(doing, lambda session: self._walk(session, prefix, found)):
            yield item

    async def unfinished(self) -> Sequence[FoundObject]:
        return await self._with(
            "list the store", lambda session: self._walk(session, "", unfinished)
        )

    async def stat(self, name: ObjectName) -> FoundObject | None:
        return await self._with(f"look at {name}", lambda session: self._look(session, name))

    async def delete(self, name: ObjectName) -> None:
        await self._with(f"remove {name}", lambda session: self._remove(session, name))

    async def locked_until(self, name: ObjectName) -> datetime | None:
        if not self.abilities.retention:
            return None
        return await self._with(
            f"ask for the lock of {name}", lambda session: self._locked(session, name)
        )

    async def extend_lock(self, name: ObjectName, until: datetime) -> None:
        if not self.abilities.retention:
            raise StoreUnusable(
                f"{self.address} cannot lock objects until a date.", "Use a store that can."
            )
        await self._with(f"lock {name}", lambda session: self._extend(session, name, until))

    async def space(self) -> Space | None:
        return await self._with("ask for the free space", self._room)

    async def entries(self, path: str | None = None) -> Sequence[Entry]:
        where = self._address.path if path is None else path
        return await self._with(
            f"look into {where or 'the bucket'}", lambda session: self._entries(session, where)
        )

    async def landed(self) -> str:
        return await self._with("log in", self._landed)

    async def close(self) -> None:
        """Close every connection; the next verb opens a new one."""
        if self._timer is not None:
            self._timer.cancel()
        sessions = [*self._idle, *([self._shared] if self._shared else [])]
        self._idle, self._shared = [], None
        for session in sessions:
            await session.close()
        mine = asyncio.current_task()
        await asyncio.gather(*(task for task in self._closing if task is not mine))

    # sessions

    async def _with(self, doing: str, act: Callable[[S], Awaitable[T]], *, again: bool = True) -> T:
        session, kept = await self._session()
        try:
            return await self._once(session, doing, act)
        except Unreachable:
            if not (again and kept):
                raise
        session, _ = await self._session()
        return await self._once(session, doing, act)

    async def _once(self, session: S, doing: str, act: Callable[[S], Awaitable[T]]) -> T:
        self._users += 1
        good = False
        try:
            async with asyncio.timeout(self._limit):
                result = await act(session)
            good = True
            return result
        except TimeoutError as error:
            raise self._silent(doing) from error
        except FennoxError as error:
            good = not isinstance(error, Unreachable)
            raise self._named(error) from error.__cause__
        except Exception as error:
            ours = self._translated(error, doing)
            if ours is None:
                raise
            good = not isinstance(ours, Unreachable)
            raise self._named(ours) from error
        finally:
            self._users -= 1
            self._give_back(session, good)

    def _silent(self, doing: str) -> Unreachable:
        return Unreachable(
            f"{self.address} did not {doing} within {self._limit:g} seconds.",
            "Look at the far side and the network.",
        )

    def _named(self, error: FennoxError) -> FennoxError:
        """Errors name a machine, and a take has two: prefix which one it is."""
        if isinstance(error, Unreachable | WrongLogin) and self.address not in error.what:
            return type(error)(f"{self.address}: {error.what}", error.remedy, **error.fields)
        return error

    async def _session(self) -> tuple[S, bool]:
        """A session, and whether it was used before."""
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self.together == 1:
            return (self._idle.pop(), True) if self._idle else (await self._opened(), False)
        async with self._opening:
            if self._shared is not None:
                return self._shared, True
            self._shared = await self._opened()
            return self._shared, False

    async def _opened(self) -> S:
        try:
            async with asyncio.timeout(self._limit):
                return await self._open()
        except TimeoutError as error:
            raise self._silent("open") from error
        except FennoxError as error:
            raise self._named(error) from error.__cause__
        except Exception as error:
            ours = self._translated(error, "connect")
            if ours is None:
                raise
            raise self._named(ours) from error

    def _give_back(self, session: S, good: bool) -> None:
        if good and self.together == 1:
            self._idle.append(session)
        elif not good:
            if self._shared is session:
                self._shared = None
            self._later(session.close())
        if self._users == 0:
            self._timer = asyncio.get_running_loop().call_later(
                IDLE, lambda: self._later(self.close())
            )

    def _later(self, closing: Awaitable[None]) -> None:
        task = asyncio.ensure_future(closing)
        self._closing.add(task)
        task.add_done_callback(self._closing.discard)


def missing(name: ObjectName) -> NotFound:
    return NotFound(f"{name} is not in the store.", "Look at what the store holds.", name=name)


def cut_short(name: ObjectName, span: Span) -> Damaged:
    return Damaged(
        f"{name} ends before byte {span.start + span.length}.", "Heal it from another copy."
    )


def taken(name: ObjectName) -> Conflict:
    return Conflict(f"{name.rsplit('/', 1)[-1]} is already in the store.", "It was left as it is.")
