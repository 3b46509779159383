"""Reading many small ranges of few large objects: fetch each object once, and keep the last few."""

from __future__ import annotations

import asyncio
from collections import OrderedDict

from fennox.core.errors import Damaged
from fennox.core.names import ObjectName
from fennox.stores.base import Span, Store, Wrapped

_KEPT = 64 * 1024 * 1024  # bytes of objects that are kept


class WholeObjects(Wrapped):
    """Wraps a store for a run that reads most of it, such as a verify. Holds at most ``_KEPT`` bytes and one object."""

    def __init__(self, inner: Store) -> None:
        super().__init__(inner)
        self._kept: OrderedDict[ObjectName, bytes] = OrderedDict()
        self._size = 0
        self._fetching = asyncio.Lock()

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        if span is None:
            return await self.inner.get(name)
        async with self._fetching:
            data = self._kept.get(name)
            if data is None:
                data = await self.inner.get(name)
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
