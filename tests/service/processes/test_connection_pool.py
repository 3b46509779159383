"""A connection that lay idle is asked whether it is still there, and replaced if it is not; one in
use is not asked.
"""

from __future__ import annotations

import asyncio
from typing import Any

import psycopg
import pytest
from sqlalchemy import text
from sqlalchemy.ext.asyncio import create_async_engine
from sqlalchemy.pool import QueuePool

from fennox.service.foundation import connection_pool
from fennox.service.machines.context import Context


@pytest.fixture
def asked(context: Context, monkeypatch: pytest.MonkeyPatch) -> list[Any]:
    found: list[Any] = []
    dialect = context.engine.dialect
    ping = dialect.do_ping

    def counted(connection: Any) -> bool:
        found.append(connection)
        return ping(connection)

    monkeypatch.setattr(dialect, "do_ping", counted)
    return found


async def backend(context: Context) -> int:
    async with context.session() as session:
        found: int = (await session.execute(text("select pg_backend_pid()"))).scalar_one()
    return found


async def test_one_in_use_is_not_asked(
    context: Context, asked: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(connection_pool, "_IDLE", 3600)
    assert await backend(context) == await backend(context)
    assert asked == []


async def test_one_that_lay_idle_is_asked_and_used(
    context: Context, asked: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(connection_pool, "_IDLE", 0)
    assert await backend(context) == await backend(context)
    assert len(asked) >= 1


async def test_one_that_is_gone_is_replaced_before_anyone_notices(
    context: Context, asked: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(connection_pool, "_IDLE", 0)
    gone = await backend(context)
    end = (
        "select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database()"
    )
    async with await psycopg.AsyncConnection.connect(
        context.settings.database.replace("+psycopg", "")
    ) as another:
        await another.execute(f"{end} and pid <> pg_backend_pid()")
    assert await backend(context) != gone
    assert asked


async def test_a_pool_ends_when_cancelled_tasks_have_given_their_connections_back(
    database: str,
) -> None:
    """A connection that was given back a moment later was found open by the garbage collector."""
    engine = create_async_engine(database)
    taken, giving_back = asyncio.Event(), asyncio.Event()

    async def work() -> None:
        async with engine.connect() as connection:
            await connection.execute(text("select 1"))
            taken.set()
            await giving_back.wait()

    working = asyncio.create_task(work())
    await taken.wait()
    closing = asyncio.create_task(connection_pool.close(engine))
    done, _ = await asyncio.wait({closing}, timeout=0.1)
    assert not done
    giving_back.set()
    await asyncio.gather(working, closing)
    pool = engine.sync_engine.pool
    assert isinstance(pool, QueuePool)
    assert (pool.checkedin(), pool.checkedout()) == (0, 0)
