"""Testing a store step by step, in readable words."""

from __future__ import annotations

import os
import secrets
import time
from collections.abc import Awaitable, Callable
from datetime import datetime

from fennox.core.errors import Conflict, FennoxError, StoreUnusable
from fennox.core.names import ObjectName, object_name
from fennox.core.words import first_few
from fennox.engine.backups.vault import README_NAME, RESCUE_NAME, RESERVE_NAME
from fennox.service.machines.context import Context
from fennox.service.machines.doors import Door
from fennox.service.stores.store_making import PROBE
from fennox.stores.base import Span, Store
from fennox.wire.stores import StoreCheck, StoreTest

_FOLDERS = {"header", "systems", "packs", "sweep", "anchors"}
_OURS = _FOLDERS | {README_NAME, RESCUE_NAME, RESERVE_NAME}
_CLOCKS_APART = 300  # seconds a far side's clock may differ from ours


async def test(store: Store, remover: Store, now: datetime) -> StoreTest:
    """Prove a store by doing everything a backup and a sweep will do to it.

    ``remover``: the same place by the login that removes, which may be the same.
    """
    trial = _Trial(store, remover, now)
    if (
        await trial.check("Log in", store.landed)
        and await trial.check("List what is there", trial.list_objects)
        and await trial.check("Write", trial.write)
    ):
        await trial.check("Read back", trial.read_back)
        await trial.check("Read a range", trial.read_range)
        await trial.check("Clock", trial.compare_clocks)
        await trial.check("Never overwrite", trial.overwrite)
        await trial.check("Delete", trial.delete)
        await trial.check("Free space", trial.free_space)
    return StoreTest(passed=all(item.passed for item in trial.checks), checks=trial.checks)


class _Trial:
    """The steps of a test, which write, read and remove one object of random bytes."""

    def __init__(self, store: Store, remover: Store, now: datetime) -> None:
        self._store = store
        self._remover = remover
        self._now = now
        self._name = object_name(f"{PROBE}{secrets.token_hex(6)}")
        self._data = os.urandom(1024 * 1024)
        self.checks: list[StoreCheck] = []

    async def check(self, title: str, act: Callable[[], Awaitable[str]]) -> bool:
        try:
            detail = await act()
        except FennoxError as error:
            self.checks.append(StoreCheck(title=title, passed=False, detail=str(error)))
            return False
        self.checks.append(StoreCheck(title=title, passed=True, detail=detail))
        return True

    async def list_objects(self) -> str:
        names = {item.name for item in await self._store.entries()}
        foreign = sorted(names - _OURS)
        rest = f"; not from Fennox: {first_few(foreign)}" if foreign else ", nothing else"
        objects = [item async for item in self._store.list("")]
        amount = sum(item.size for item in objects)
        return f"{len(objects)} objects, {amount / 1e6:.1f} MB{rest}"

    async def write(self) -> str:
        started = time.monotonic()
        await self._store.put(self._name, self._data)
        return self._speed(started)

    async def read_back(self) -> str:
        started = time.monotonic()
        if await self._store.get(self._name) != self._data:
            raise StoreUnusable(
                "The object read back differs from the one written.", "Do not trust this store."
            )
        return self._speed(started)

    def _speed(self, started: float) -> str:
        return f"{len(self._data) / (time.monotonic() - started) / 1e6:.0f} MB a second"

    async def read_range(self) -> str:
        if await self._store.get(self._name, Span(1000, 50)) != self._data[1000:1050]:
            raise StoreUnusable(
                "A range read back differs from what was written.", "Do not trust this store."
            )
        return "50 bytes from the middle"

    async def compare_clocks(self) -> str:
        entry = await self._store.stat(self._name)
        if entry is None or entry.modified is None:
            return "unknown: the store reports no times"
        apart = abs((entry.modified - self._now).total_seconds())
        if apart > _CLOCKS_APART:
            raise StoreUnusable(
                f"The far side's clock is {apart / 3600:.1f} hours from ours.",
                "Correct it; ages would be wrong.",
            )
        return f"within {max(2, round(apart))} seconds of ours"

    async def overwrite(self) -> str:
        try:
            await self._store.put(self._name, b"other")
        except Conflict:
            if await self._store.get(self._name) == self._data:
                return "refused, as it must be"
        raise StoreUnusable("The store silently overwrites objects.", "Do not trust this store.")

    async def delete(self) -> str:
        has_remover = self._remover is not self._store
        if has_remover and not await _may_delete(self._store, self._name):
            await self._remover.delete(self._name)
            detail = "refused to the login that takes, as it should be; the sweep's login can"
        else:
            await self._store.delete(self._name)
            detail = "deleted, by the login that takes"
            if has_remover:
                detail += ": take that right from it, since the sweep has its own"
        if await self._store.stat(self._name) is not None:
            raise StoreUnusable("An object still exists after it was deleted.", "Check the rights.")
        return detail

    async def free_space(self) -> str:
        space = await self._store.space()
        if space is None:
            return "unknown: the store does not report it"
        return f"{space.free / 1e9:.1f} GB free of {space.total / 1e9:.1f} GB"


async def _may_delete(store: Store, name: ObjectName) -> bool:
    try:
        await store.delete(name)
    except StoreUnusable:
        return False
    return True


async def with_header(context: Context, door: Door, tested: StoreTest) -> StoreTest:
    """A passed test, and whether the header is the pinned one."""
    try:
        await context.stores.vault(door)
    except FennoxError as error:
        check = StoreCheck(title="The header is ours", passed=False, detail=str(error))
    else:
        check = StoreCheck(title="The header is ours", passed=True, detail="as pinned")
    return StoreTest(passed=check.passed, checks=[*tested.checks, check])
