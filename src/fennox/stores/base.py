"""The interface of all stores: keeping whole objects under names. No code of ours runs on the far
side. A backend implements five verbs and promises: a put is atomic and never overwrites; every
error is one of ``core.errors``; a listing yields only names of the format and skips temporary and
foreign ones.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Protocol

from fennox.core.names import ObjectName, is_object_name

# prefix of unfinished writes; readers ignore them (store-format §2.4)
TEMPORARY_PREFIX = "."
_TEMPORARY = re.compile(r"\.[0-9a-f]{16}\.tmp\Z")


@dataclass(frozen=True)
class FoundObject:
    """An object in a listing. ``size`` in bytes."""

    name: ObjectName
    size: int
    modified: datetime | None


def found(name: str, size: int, modified: datetime | None) -> list[FoundObject]:
    """A list of one, or empty if the name is not one of the format."""
    return [FoundObject(ObjectName(name), size, modified)] if is_object_name(name) else []


Keep = Callable[[str, int, datetime | None], list[FoundObject]]
"""What a listing makes of a file: name, size, when it was written."""


def temporary_name() -> str:
    """For an unfinished write."""
    return f"{TEMPORARY_PREFIX}{secrets.token_hex(8)}.tmp"


def unfinished(name: str, size: int, modified: datetime | None) -> list[FoundObject]:
    """As :func:`found`, only for unfinished writes."""
    return (
        [FoundObject(ObjectName(name), size, modified)]
        if _TEMPORARY.match(name.rsplit("/", 1)[-1])
        else []
    )


@dataclass(frozen=True)
class Span:
    """A range of bytes within an object."""

    start: int
    length: int


@dataclass(frozen=True)
class Space:
    """Bytes free and in total, as far as the far side reports them."""

    free: int
    total: int


@dataclass(frozen=True)
class Entry:
    """An entry in any folder of the far side, for people browsing. ``size`` in bytes, for files."""

    name: str
    folder: bool
    size: int | None


@dataclass(frozen=True)
class Abilities:
    """A backend's capabilities. ``exclusive``: the far side itself refuses a second object of the
    same name; ``retention``: it keeps an object from being deleted until a date.
    """

    ranges: bool
    retention: bool
    space: bool
    exclusive: bool


class Store(Protocol):
    """A plain place for files."""

    @property
    def address(self) -> str:
        """The store's address without any secret."""

    @property
    def abilities(self) -> Abilities: ...

    @property
    def lock(self) -> timedelta | None:
        """How long written objects are locked, from the store's address; None: not at all."""

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        """Write a whole object; raises :class:`Conflict`, without effect, if the name is taken."""

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        """Read an object or a range; raises :class:`NotFound` if missing; never returns fewer bytes
        than requested.
        """

    def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        """Every object whose name begins with ``prefix`` (empty, or ending in ``/``), in no
        promised order.
        """

    async def stat(self, name: ObjectName) -> FoundObject | None: ...

    async def delete(self, name: ObjectName) -> None:
        """Remove an object; a missing one is not an error."""

    async def unfinished(self) -> Sequence[FoundObject]:
        """Unfinished writes; :meth:`delete` removes them."""

    async def locked_until(self, name: ObjectName) -> datetime | None:
        """Until when the far side refuses to delete an object; None if it does not."""

    async def extend_lock(self, name: ObjectName, until: datetime) -> None:
        """Lock an object until a later date than it is now."""

    async def space(self) -> Space | None: ...

    async def entries(self, path: str | None = None) -> Sequence[Entry]:
        """Everything in a folder of the far side, by default the store's own."""

    async def landed(self) -> str:
        """A sentence about the account and folder in use."""

    async def close(self) -> None:
        """Close connections; the next verb opens a new one."""


class Wrapped:
    """Forwards every verb; base class of store wrappers."""

    def __init__(self, inner: Store) -> None:
        self.inner = inner

    @property
    def address(self) -> str:
        return self.inner.address

    @property
    def abilities(self) -> Abilities:
        return self.inner.abilities

    @property
    def lock(self) -> timedelta | None:
        return self.inner.lock

    async def unfinished(self) -> Sequence[FoundObject]:
        return await self.inner.unfinished()

    async def locked_until(self, name: ObjectName) -> datetime | None:
        return await self.inner.locked_until(name)

    async def extend_lock(self, name: ObjectName, until: datetime) -> None:
        await self.inner.extend_lock(name, until)

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        await self.inner.put(name, data, retain_until=retain_until)

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        return await self.inner.get(name, span)

    async def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        async for found in self.inner.list(prefix):
            yield found

    async def stat(self, name: ObjectName) -> FoundObject | None:
        return await self.inner.stat(name)

    async def delete(self, name: ObjectName) -> None:
        await self.inner.delete(name)

    async def space(self) -> Space | None:
        return await self.inner.space()

    async def entries(self, path: str | None = None) -> Sequence[Entry]:
        return await self.inner.entries(path)

    async def landed(self) -> str:
        return await self.inner.landed()

    async def close(self) -> None:
        await self.inner.close()
