"""A statement is compiled once for all services of a process and its forks. Compiled ones are kept
by engine and dialect, but here all engines are connected to one server in the same way.
"""

from __future__ import annotations

from functools import wraps
from typing import Any

from sqlalchemy.dialects.postgresql.psycopg import PGDialectAsync_psycopg
from sqlalchemy.ext.asyncio import AsyncEngine, create_async_engine

from fennox.service.foundation import postgresql


def share() -> None:
    """From now on, in this process and in its forks."""
    compiled: dict[Any, Any] = {}

    @wraps(create_async_engine)
    def create(*given: Any, **named: Any) -> AsyncEngine:
        engine = create_async_engine(*given, **named)
        engine.sync_engine._compiled_cache = compiled
        return engine

    def equal(dialect: object, other: object) -> bool:
        return type(dialect) is type(other)

    of_a_dialect = {"__eq__": equal, "__hash__": lambda dialect: hash(type(dialect))}
    for name, method in of_a_dialect.items():
        setattr(PGDialectAsync_psycopg, name, method)
    vars(postgresql)["create_async_engine"] = create
