"""A connection that lay idle is asked whether it is still there, and replaced if it is not; one in
use is not asked.
"""

from __future__ import annotations

from typing import Any

import psycopg
import pytest
from sqlalchemy import text

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
