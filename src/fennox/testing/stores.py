"""The contract every store keeps, and wrappers that make any store fail."""

from __future__ import annotations

import asyncio
import os
from collections.abc import AsyncIterator, Callable
from dataclasses import replace
from datetime import datetime, timedelta

import pytest

from fennox.core.errors import Conflict, Damaged, NoRoom, NotFound, StoreUnusable, Unreachable
from fennox.core.names import ObjectName, object_name
from fennox.stores.base import Abilities, FoundObject, Span, Store, Wrapped


class StoreSuite:
    """Derive a test class, give a ``store`` fixture over an empty place, and
    ``put_behind_its_back``.
    """

    async def put_behind_its_back(self, store: Store, name: str, data: bytes) -> None:
        """Write around the store under test, so that reading is not tested against its own
        writing.
        """
        raise NotImplementedError

    async def get_behind_its_back(self, store: Store, name: str) -> bytes:
        raise NotImplementedError

    async def test_a_write_that_was_never_finished_is_no_object_but_can_be_found_and_removed(
        self, store: Store
    ) -> None:
        await self.put_behind_its_back(store, "packs/.0123456789abcdef.tmp", b"half")
        await self.put_behind_its_back(store, "packs/.notes", b"of somebody else")
        await store.put(object_name("packs/whole"), b"whole")
        assert [found.name async for found in store.list("")] == ["packs/whole"]
        [left] = await store.unfinished()
        assert (left.name, left.size) == ("packs/.0123456789abcdef.tmp", 4)
        await store.delete(left.name)
        assert list(await store.unfinished()) == []
        assert await self.get_behind_its_back(store, "packs/.notes") == b"of somebody else"

    async def test_what_is_put_is_there_whole(self, store: Store) -> None:
        data = os.urandom(3_000_000)
        await store.put(object_name("packs/2026-01/a.fxp"), data)
        assert await self.get_behind_its_back(store, "packs/2026-01/a.fxp") == data

    async def test_what_is_there_is_read_whole_and_in_ranges(self, store: Store) -> None:
        await self.put_behind_its_back(store, "packs/2026-01/b.fxp", b"0123456789")
        name = object_name("packs/2026-01/b.fxp")
        assert await store.get(name) == b"0123456789"
        assert await store.get(name, Span(3, 4)) == b"3456"

    async def test_a_range_past_the_end_is_damage_and_not_a_shorter_answer(
        self, store: Store
    ) -> None:
        await store.put(object_name("header/a"), b"0123")
        with pytest.raises(Damaged):
            await store.get(object_name("header/a"), Span(2, 4))

    async def test_a_put_never_overwrites(self, store: Store) -> None:
        name = object_name("systems/a/one.fxr")
        await store.put(name, b"first")
        with pytest.raises(Conflict):
            await store.put(name, b"second")
        assert await store.get(name) == b"first"

    async def test_a_missing_object_is_not_found(self, store: Store) -> None:
        with pytest.raises(NotFound):
            await store.get(object_name("packs/none"))
        assert await store.stat(object_name("packs/none")) is None

    async def test_listing_gives_names_and_sizes_under_a_prefix(self, store: Store) -> None:
        await store.put(object_name("systems/a/1.fxr"), b"1")
        await store.put(object_name("systems/b/2.fxr"), b"22")
        await store.put(object_name("header/h"), b"333")
        listed = {found.name: found.size async for found in store.list("systems/")}
        assert listed == {"systems/a/1.fxr": 1, "systems/b/2.fxr": 2}
        assert [found.name async for found in store.list("nothing/")] == []

    async def test_listing_passes_over_temporary_and_strange_names(self, store: Store) -> None:
        await self.put_behind_its_back(store, "systems/a/.half.tmp", b"")
        await self.put_behind_its_back(store, "systems/a/with space", b"")
        await store.put(object_name("systems/a/good"), b"")
        assert [found.name async for found in store.list("")] == ["systems/a/good"]

    async def test_delete_removes_and_is_no_error_twice(self, store: Store) -> None:
        name = object_name("packs/x")
        await store.put(name, b"x")
        await store.delete(name)
        await store.delete(name)
        assert await store.stat(name) is None

    async def test_two_puts_at_once_are_both_whole(self, store: Store) -> None:
        contents = {object_name(f"packs/2026-02/{n}"): os.urandom(200_000) for n in range(4)}
        await asyncio.gather(*(store.put(name, data) for name, data in contents.items()))
        assert {name: await store.get(name) for name in contents} == contents

    async def test_an_empty_object_and_an_empty_range_are_read(self, store: Store) -> None:
        await store.put(object_name("header/empty"), b"")
        await store.put(object_name("header/some"), b"some")
        assert await store.get(object_name("header/empty")) == b""
        assert await store.get(object_name("header/some"), Span(2, 0)) == b""

    async def test_it_says_where_it_is_and_what_lies_there(self, store: Store) -> None:
        await store.put(object_name("header/some"), b"some")
        assert await store.landed()
        assert [(entry.name, entry.folder) for entry in await store.entries()] == [("header", True)]
        assert (await store.space() is not None) or not store.abilities.space

    async def test_after_closing_the_next_verb_opens_again(self, store: Store) -> None:
        await store.put(object_name("header/some"), b"some")
        await store.close()
        assert await store.get(object_name("header/some")) == b"some"


class FailingStore(Wrapped):
    """Fails every put after the first ``after``; as a full disk, or as a cut connection if
    ``cut``.
    """

    def __init__(self, inner: Store, *, after: int, cut: bool = False) -> None:
        super().__init__(inner)
        self._left = after
        self._cut = cut

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        if self._left == 0:
            if self._cut:
                raise Unreachable("The connection was cut.", "Try again.")
            raise NoRoom("No room left.", "Free space.")
        self._left -= 1
        await super().put(name, data, retain_until=retain_until)


class ForgetfulStore(Wrapped):
    """Reports one put as failed although it happened, for the name that ends in ``suffix``."""

    def __init__(self, inner: Store, suffix: str) -> None:
        super().__init__(inner)
        self._suffix = suffix
        self._done = False

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        await super().put(name, data, retain_until=retain_until)
        if name.endswith(self._suffix) and not self._done:
            self._done = True
            raise Unreachable("No answer to the put.", "Try again.")


class StoppingStore(Wrapped):
    """Dies at the n-th verb: before it, or after it but before its result is known. ``count``:
    number of verbs so far, so that a test can stop at each.
    """

    def __init__(self, inner: Store, at: int | None, *, after: bool = False) -> None:
        super().__init__(inner)
        self.count = 0
        self._at = at
        self._after = after

    def _begin(self) -> int:
        self.count += 1
        self._end(self.count, after=False)
        return self.count

    def _end(self, number: int, *, after: bool = True) -> None:
        if number == self._at and after == self._after:
            raise Died(f"at verb {number}")

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        number = self._begin()
        await super().put(name, data, retain_until=retain_until)
        self._end(number)

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        number = self._begin()
        data = await super().get(name, span)
        self._end(number)
        return data

    async def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        number = self._begin()
        async for found in super().list(prefix):
            yield found
        self._end(number)

    async def stat(self, name: ObjectName) -> FoundObject | None:
        number = self._begin()
        found = await super().stat(name)
        self._end(number)
        return found

    async def delete(self, name: ObjectName) -> None:
        number = self._begin()
        await super().delete(name)
        self._end(number)


class Died(BaseException):
    """Must not be caught, like the end of a process."""


class LateListing(Wrapped):
    """A listing that lags behind recent puts by ``hidden`` objects, as with some object stores."""

    def __init__(self, inner: Store, hidden: int) -> None:
        super().__init__(inner)
        self._hidden = hidden
        self._put: list[ObjectName] = []

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        await super().put(name, data, retain_until=retain_until)
        self._put.append(name)

    async def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        late = set(self._put[-self._hidden :])
        async for found in super().list(prefix):
            if found.name not in late:
                yield found


class DeniedStore(Wrapped):
    """Permission to write and delete was taken away."""

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        raise StoreUnusable("Not permitted to write.", "Give the right back.")

    async def delete(self, name: ObjectName) -> None:
        raise StoreUnusable("Not permitted to remove.", "Give the right back.")


class SlowStore(Wrapped):
    """Every verb yields first, so that two runs on one store interleave at each verb."""

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        await asyncio.sleep(0)
        await super().put(name, data, retain_until=retain_until)
        await asyncio.sleep(0)

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        await asyncio.sleep(0)
        return await super().get(name, span)


class LockingStore(Wrapped):
    """Locks objects by a given clock, as a bucket with object lock does."""

    def __init__(self, inner: Store, *, lock: timedelta, now: Callable[[], datetime]) -> None:
        super().__init__(inner)
        self._lock = lock
        self._now = now
        self.locks: dict[ObjectName, datetime] = {}
        self.extended = 0

    @property
    def abilities(self) -> Abilities:
        return replace(self.inner.abilities, retention=True)

    @property
    def lock(self) -> timedelta | None:
        return self._lock

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        await self.inner.put(name, data)
        if retain_until is not None:
            self.locks[name] = retain_until

    async def locked_until(self, name: ObjectName) -> datetime | None:
        return self.locks.get(name)

    async def extend_lock(self, name: ObjectName, until: datetime) -> None:
        if until <= self.locks.get(name, until - timedelta(1)):
            raise StoreUnusable(f"{name} is locked longer already.", "A lock is never shortened.")
        self.locks[name] = until
        self.extended += 1

    async def delete(self, name: ObjectName) -> None:
        if self.locks.get(name, self._now()) > self._now():
            raise StoreUnusable(f"{name} is locked.", "A later sweep removes it.")
        await self.inner.delete(name)
