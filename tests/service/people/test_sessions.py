"""No store, machine or hash is waited for inside a database session, and errors name the side that
failed.
"""

from __future__ import annotations

import asyncio
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import select
from sqlalchemy.exc import DBAPIError

from fennox.catalogue.models.stores import StoreRow
from fennox.core.errors import FennoxError, TryLater
from fennox.core.kind_files.loading import load
from fennox.core.names import object_name
from fennox.links.base import Credential
from fennox.service.foundation import session_guard
from fennox.service.foundation.hashing import hashed
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import ANYWHERE
from fennox.service.upkeep import store_duties
from tests.engine.keeper import shipped_text
from tests.service.contexts import add_store


async def test_whatever_is_slow_is_refused_inside_a_session(
    context: Context, tmp_path: Path
) -> None:
    store = context.stores.far_side(str(tmp_path), None, None)
    name = object_name("probe-1")
    await store.put(name, b"outside")
    linux = load(shipped_text("linux-server"), shipped_text)
    async with context.session():
        for slow in (
            store.put(object_name("probe-2"), b"inside"),
            store.get(name),
            store.stat(name),
            store.delete(name),
            store.space(),
            hashed(lambda: None),
            context.machines.try_credential(
                linux, "127.0.0.1:1", Credential("root", password="x"), "SHA256:x", ANYWHERE
            ),
        ):
            with pytest.raises(RuntimeError, match="inside a database session"):
                await slow
        with pytest.raises(RuntimeError, match="inside a database session"):
            [_ async for _ in store.list("")]
    assert await store.get(name) == b"outside"
    async with context.alone():
        with pytest.raises(RuntimeError, match="inside a database session"):
            await store.get(name)


async def test_a_task_of_its_own_is_not_inside_the_session_beside_it(
    context: Context, tmp_path: Path
) -> None:
    store = context.stores.far_side(str(tmp_path), None, None)
    ready, over = asyncio.Event(), asyncio.Event()

    async def hold() -> None:
        async with context.session():
            ready.set()
            await over.wait()

    holding = asyncio.create_task(hold())
    await ready.wait()
    await store.put(object_name("probe-1"), b"beside it")
    over.set()
    await holding


async def test_in_production_it_is_told_and_goes_on(
    context: Context, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(session_guard, "strict", False)
    store = context.stores.far_side(str(tmp_path), None, None)
    async with context.session():
        await store.put(object_name("probe-1"), b"x")


@pytest.mark.parametrize(
    ("error", "text"),
    [
        (psycopg.errors.DiskFull, "PostgreSQL's disk is full."),
        (psycopg.errors.TooManyConnections, "PostgreSQL has no connection left."),
        (psycopg.errors.OutOfMemory, "PostgreSQL has no memory left."),
    ],
)
async def test_what_postgresql_lacks_is_said_as_it_is(
    context: Context, error: type[Exception], text: str
) -> None:
    async def fails() -> None:
        async with context.session():
            raise DBAPIError("insert", {}, error())

    with pytest.raises(TryLater) as told:
        await fails()
    assert told.value.what == text


async def test_a_store_that_hangs_is_named_and_the_database_is_not(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    await add_store(context, "pier")

    async def hangs(*_: object, **__: object) -> None:
        await asyncio.Event().wait()

    monkeypatch.setattr(context.stores, "vault", hangs)
    monkeypatch.setattr(context.stores, "door", lambda *_, **__: _door())
    monkeypatch.setattr(store_duties, "_PATIENCE", 0.05)
    await store_duties.watch(context)
    async with context.session() as session:
        [row] = (await session.execute(select(StoreRow))).scalars()
    assert row.stopped_because == "The store pier did not answer within 0 seconds."
    with pytest.raises(FennoxError, match="database does not answer"):
        async with context.session():
            raise DBAPIError("select", {}, psycopg.OperationalError())


async def _door() -> None:
    return None
