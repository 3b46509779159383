"""Testing a store, step by step, as a person reads it."""

from __future__ import annotations

import os
import secrets
import time
from collections.abc import Awaitable, Callable
from datetime import datetime

from fennox.core.errors import Conflict, FennoxError, StoreUnusable
from fennox.core.names import ObjectName, object_name
from fennox.service.stores.store_making import PROBE
from fennox.stores.base import Span, Store
from fennox.wire.stores import StoreCheck, StoreTest

_CLOCKS_APART = 300  # seconds that a far side's clock may differ from ours


async def test(store: Store, remover: Store, now: datetime) -> StoreTest:
    """Prove a store by doing everything a backup and a sweep will do to it.

    ``remover``: the same place by the login that removes, which may be the same.
    """
    name = object_name(f"{PROBE}{secrets.token_hex(6)}")
    data = os.urandom(1024 * 1024)
    checks: list[StoreCheck] = []

    async def check(title: str, act: Callable[[], Awaitable[str]]) -> bool:
        try:
            detail = await act()
        except FennoxError as error:
            checks.append(StoreCheck(title=title, passed=False, detail=str(error)))
            return False
        checks.append(StoreCheck(title=title, passed=True, detail=detail))
        return True

    async def listed() -> str:
        found = {item.name for item in await store.entries()}
        ours = {"header", "systems", "packs", "sweep", "READ-ME-FIRST.txt", "rescue.py"}
        strange = sorted(found - ours)
        more = f"; not of Fennox: {', '.join(strange[:5])}" + (
            " and more" if len(strange) > 5 else ""
        )
        objects = [item async for item in store.list("")]
        amount = sum(item.size for item in objects)
        return (
            f"{len(objects)} objects, {amount / 1e6:.1f} MB{more if strange else ', nothing else'}"
        )

    async def written() -> str:
        started = time.monotonic()
        await store.put(name, data)
        return f"{len(data) / (time.monotonic() - started) / 1e6:.0f} MB a second"

    async def read_back() -> str:
        started = time.monotonic()
        if await store.get(name) != data:
            raise StoreUnusable(
                "What was read is not what was written.", "Do not trust this store."
            )
        return f"{len(data) / (time.monotonic() - started) / 1e6:.0f} MB a second"

    async def in_ranges() -> str:
        if await store.get(name, Span(1000, 50)) != data[1000:1050]:
            raise StoreUnusable(
                "A range that was read is not what was written.", "Do not trust this store."
            )
        return "50 bytes from the middle"

    async def same_time() -> str:
        there = await store.stat(name)
        if there is None or there.modified is None:
            return "not told"
        apart = abs((there.modified - now).total_seconds())
        if apart > _CLOCKS_APART:
            raise StoreUnusable(
                f"The far side's clock is {apart / 3600:.1f} hours from ours.",
                "Set it right; ages would be wrong.",
            )
        return f"within {max(2, round(apart))} seconds of ours"

    async def not_overwritten() -> str:
        try:
            await store.put(name, b"other")
        except Conflict:
            if await store.get(name) == data:
                return "refused, as it must be"
        raise StoreUnusable("The store silently overwrites objects.", "Do not trust this store.")

    async def deleted() -> str:
        if remover is not store and not await _may_delete(store, name):
            await remover.delete(name)
            told = "refused to the login that takes, as it should be; the sweep's login can"
        else:
            await store.delete(name)
            told = "and it is gone; the login that takes can delete"
            told += (
                ": take that right from it, since the sweep has its own"
                if remover is not store
                else ""
            )
        if await store.stat(name) is not None:
            raise StoreUnusable(
                "An object is still there after it was deleted.", "Check the rights."
            )
        return told

    async def room() -> str:
        space = await store.space()
        return (
            f"{space.free / 1e9:.1f} GB free of {space.total / 1e9:.1f} GB" if space else "not told"
        )

    if (
        await check("Log in", store.landed)
        and await check("List what is there", listed)
        and await check("Write", written)
    ):
        await check("Read back", read_back)
        await check("Read a range", in_ranges)
        await check("Clock", same_time)
        await check("Never overwrite", not_overwritten)
        await check("Delete", deleted)
        await check("Free space", room)
    return StoreTest(passed=all(item.passed for item in checks), checks=checks)


async def _may_delete(store: Store, name: ObjectName) -> bool:
    try:
        await store.delete(name)
    except StoreUnusable:
        return False
    return True
