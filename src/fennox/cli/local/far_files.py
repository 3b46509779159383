"""A remote store as the offline reader needs it: names, sizes, and pieces of objects, each fetched
once. Only what a command reads is fetched: a list needs headers, records and notes; one backup of a
large store needs a few pieces of a few packs.
"""

from __future__ import annotations

import asyncio
from bisect import bisect_left
from collections import OrderedDict
from collections.abc import Coroutine
from typing import Any, TypeVar

from fennox import rescue
from fennox.core.errors import NotFound
from fennox.core.names import object_name
from fennox.stores.base import Span, Store

T = TypeVar("T")

_PIECE = (
    2 * 1024 * 1024
)  # bytes of a pack that are fetched at a time: what a backup needs of one lies together
_HELD = 32  # pieces that are kept
_AT_ONCE = 16  # small objects that are fetched at the same time
_AHEAD = 256  # small objects that are fetched ahead


class FarFiles(rescue.StoreFiles):
    """``requests``: how often the far side was asked for an object or a piece of one."""

    def __init__(self, store: Store, loop: asyncio.AbstractEventLoop) -> None:
        self.place = rescue.safe(store.address)
        self._store, self._loop = store, loop
        self._sizes: dict[str, int] = {}
        self._pieces: OrderedDict[tuple[str, int], bytes] = OrderedDict()
        self._small: dict[str, bytes] = {}
        self._in_order: dict[
            str, list[str]
        ] = {}  # small objects by their ending, as they will be read
        self._before = ""  # the small object that was read last
        self.requests = 0

    def _wait(self, what: Coroutine[Any, Any, T]) -> T:
        return self._loop.run_until_complete(what)

    def names(self, top: str = "") -> list[str]:
        found = self._wait(self._listed(f"{top}/" if top else ""))
        self._sizes |= found
        names = sorted(found)
        if top in ("systems", "sweep", "header", "anchors"):
            for ending in {name.rsplit(".", 1)[-1] for name in names}:
                self._in_order[ending] = [name for name in names if name.endswith(f".{ending}")]
        return names

    async def _listed(self, prefix: str) -> dict[str, int]:
        return {found.name: found.size async for found in self._store.list(prefix)}

    async def _fetch(self, names: list[str]) -> None:
        """Several at the same time, as each waits for the way there."""
        gate = asyncio.Semaphore(_AT_ONCE)

        async def one(name: str) -> None:
            async with gate:
                self.requests += 1
                try:
                    self._small[name] = await self._store.get(object_name(name))
                except NotFound:
                    return  # removed since the listing

        await asyncio.gather(*(one(name) for name in names))

    def size(self, name: str) -> int:
        return self._sizes[name]

    def read(self, name: str, offset: int = 0, length: int = -1) -> bytes:
        if not name.startswith("packs/"):
            self._look_ahead(name)
        if name in self._small:
            data = self._small[name]
            return data[offset:] if length < 0 else data[offset : offset + length]
        if not name.startswith("packs/") or length < 0:
            self.requests += 1
            try:
                data = self._wait(self._store.get(object_name(name)))
            except NotFound as error:
                raise FileNotFoundError(f"{name} is not there") from error
            return data[offset:] if length < 0 else data[offset : offset + length]
        first, last = offset // _PIECE, max(offset, offset + length - 1) // _PIECE
        joined = b"".join(self._piece(name, number) for number in range(first, last + 1))
        start = offset - first * _PIECE
        return joined[start : start + length]

    def _look_ahead(self, name: str) -> None:
        """Fetch several small objects at once where they are read one after another, as all of them
        are by a list.
        """
        listed = self._in_order.get(name.rsplit(".", 1)[-1], [])
        at = bisect_left(listed, name)
        if (
            name not in self._small
            and listed[at : at + 1] == [name]
            and (at == 0 or listed[at - 1] == self._before)
        ):
            self._small = {}
            self._wait(self._fetch(listed[at : at + _AHEAD]))
        self._before = name

    def _piece(self, name: str, number: int) -> bytes:
        key = (name, number)
        if key not in self._pieces:
            start = number * _PIECE
            length = min(_PIECE, self._sizes[name] - start)
            self.requests += 1
            data = (
                self._wait(self._store.get(object_name(name), Span(start, length)))
                if length > 0
                else b""
            )
            self._pieces[key] = data
            if len(self._pieces) > _HELD:
                self._pieces.popitem(last=False)
        self._pieces.move_to_end(key)
        return self._pieces[key]
