"""A process that dies at a chosen verb of a store or transaction of the catalogue, before it or
after it.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.service.machines.doors import Door
from fennox.stores.base import Store
from fennox.stores.folder import FolderStore
from fennox.testing.stores import Died, StoppingStore


@dataclass
class Fate:
    """Counts verbs of all stores and transactions together, and dies at the one that was chosen."""

    at: int | None = None
    after: bool = False
    count: int = 0
    stores: dict[str, Store] = field(default_factory=dict)

    def begin(self) -> int:
        self.count += 1
        self.end(self.count, after=False)
        return self.count

    def end(self, number: int, *, after: bool = True) -> None:
        if number == self.at and after == self.after:
            raise Died(f"at {number}")

    async def store(self, door: Door) -> Store:
        if door.store not in self.stores:
            self.stores[door.store] = Mortal(FolderStore(Path(door.address)), self)
        return self.stores[door.store]

    def session(self, real: Callable[..., Any]) -> Callable[..., Any]:
        @asynccontextmanager
        async def mortal(
            *, lasting: bool = True, single: bool = False
        ) -> AsyncIterator[AsyncSession]:
            """The process dies before a transaction is committed, or after."""
            self.count += 1
            number = self.count
            async with real(lasting=lasting, single=single) as session:
                yield session
                self.end(number, after=False)
            self.end(number)

        return mortal


class Mortal(StoppingStore):
    def __init__(self, inner: Store, fate: Fate) -> None:
        super().__init__(inner, None)
        self.fate = fate

    def _begin(self) -> int:
        return self.fate.begin()

    def _end(self, number: int, *, after: bool = True) -> None:
        self.fate.end(number, after=after)
