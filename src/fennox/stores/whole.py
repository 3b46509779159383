"""Reading many small ranges of few large objects: fetch each object once, and keep the last few."""

from __future__ import annotations

import asyncio
from collections import Counter, OrderedDict

from fennox.core.errors import Damaged
from fennox.core.names import ObjectName
from fennox.stores.base import Span, Store, Wrapped

_KEPT = 32 * 1024 * 1024  # bytes of cached objects


class WholeObjects(Wrapped):
    """Wraps a store for a run that reads most of it. Caches at most ``_KEPT`` bytes and one object.
    ``after``: number of ranges fetched individually before the whole object is fetched, so that a
    run that reads little does not transfer much.
    """

    def __init__(self, inner: Store, *, after: int = 2) -> None:
        super().__init__(inner)
        self._after = after
        self._asked: Counter[ObjectName] = Counter()
        self._kept: OrderedDict[ObjectName, bytes] = OrderedDict()
        self._size = 0
        self._fetching = asyncio.Lock()

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        if span is None:
            return await self.inner.get(name)
        self._asked[name] += 1
        if self._asked[name] <= self._after and name not in self._kept:
            return await self.inner.get(name, span)
        async with self._fetching:
            data = self._kept.get(name)
            if data is None:
                data = await self.inner.get(name)
                self._keep(name, data)
            self._kept.move_to_end(name)
        part = data[span.start : span.start + span.length]
        if len(part) != span.length:
            raise Damaged(
                f"{name} ends before byte {span.start + span.length}.", "Heal it from another copy."
            )
        return part

    def _keep(self, name: ObjectName, data: bytes) -> None:
        self._kept[name] = data
        self._size += len(data)
        while self._size > _KEPT and len(self._kept) > 1:
            _, old = self._kept.popitem(last=False)
            self._size -= len(old)
