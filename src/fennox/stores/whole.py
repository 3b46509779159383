"""Reading many small ranges of few large objects: fetch each object once, and keep the last few."""

from __future__ import annotations

import asyncio
from collections import OrderedDict
from collections.abc import AsyncIterator, Sequence
from datetime import datetime

from fennox.core.errors import Damaged
from fennox.core.names import ObjectName
from fennox.stores.base import Abilities, Entry, Found, Space, Span, Store

_KEPT = 64 * 1024 * 1024  # bytes of objects that are kept


class WholeObjects:
    """Wraps a store for a run that reads most of it, such as a verify. Holds at most ``_KEPT`` bytes and one object."""

    def __init__(self, inner: Store) -> None:
        self._inner = inner
        self._kept: OrderedDict[ObjectName, bytes] = OrderedDict()
        self._size = 0
        self._fetching = asyncio.Lock()

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        if span is None:
            return await self._inner.get(name)
        async with self._fetching:
            data = self._kept.get(name)
            if data is None:
                data = await self._inner.get(name)
                self._keep(name, data)
            self._kept.move_to_end(name)
        part = data[span.start : span.start + span.length]
        if len(part) != span.length:
            raise Damaged(f"{name} ends before byte {span.start + span.length}.", "Heal it from another copy.")
        return part

    def _keep(self, name: ObjectName, data: bytes) -> None:
        self._kept[name] = data
        self._size += len(data)
        while self._size > _KEPT and len(self._kept) > 1:
            _, old = self._kept.popitem(last=False)
            self._size -= len(old)

    @property
    def address(self) -> str:
        return self._inner.address

    @property
    def abilities(self) -> Abilities:
        return self._inner.abilities

    async def put(self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None) -> None:
        await self._inner.put(name, data, retain_until=retain_until)

    def list(self, prefix: str) -> AsyncIterator[Found]:
        return self._inner.list(prefix)

    async def stat(self, name: ObjectName) -> Found | None:
        return await self._inner.stat(name)

    async def delete(self, name: ObjectName) -> None:
        await self._inner.delete(name)

    async def space(self) -> Space | None:
        return await self._inner.space()

    async def entries(self, path: str | None = None) -> Sequence[Entry]:
        return await self._inner.entries(path)

    async def landed(self) -> str:
        return await self._inner.landed()

    async def close(self) -> None:
        await self._inner.close()
