"""Connections to PostgreSQL, and translation of its errors into ours."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from pydantic_core import from_json
from sqlalchemy.exc import DataError, DBAPIError, IntegrityError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.ext.asyncio import AsyncEngine, create_async_engine

from fennox.core.errors import BadInput, TryLater
from fennox.service.foundation.connection_pool import ask_the_idle
from fennox.service.foundation.settings import Settings

_MET = (
    "40001",
    "40P01",
)  # serialization failure, deadlock: one of two transactions is rolled back and may be repeated


def connect(settings: Settings) -> AsyncEngine:
    # A process paused in a transaction must not lock a run's row for longer than its lease.
    idle = f"-c idle_in_transaction_session_timeout={int(settings.lease_seconds * 1000)}"
    # Answers are short and what they need lies in memory: to compile one takes longer than all of
    # it.
    planned = "-c jit=off -c random_page_cost=1.1"
    engine = create_async_engine(
        settings.database,
        pool_size=20,
        max_overflow=20,
        hide_parameters=True,  # request data does not belong in logs
        json_deserializer=from_json,  # takes a fifth of the standard library's time
        connect_args={"options": f"{idle} {planned}"},
    )
    ask_the_idle(engine)
    return engine


@contextmanager
def in_words() -> Iterator[None]:
    """Translate an error of the database's library into ours."""
    try:
        yield
    except DataError as error:
        raise BadInput(
            "A text holds a character that cannot be kept, or a number is out of range.",
            "Leave it out.",
        ) from error
    except DBAPIError as error:
        if getattr(error.orig, "sqlstate", None) in _MET:
            raise TryLater(
                "Two changes met in the database, and this one was not made.", "Try again."
            ) from error
        if (lacking := _lacks(error)) is not None:
            raise lacking from error
        if error.connection_invalidated or type(error.orig).__name__ in (
            "OperationalError",
            "AdminShutdown",
        ):
            raise TryLater(
                "The database does not answer.", "Try again; check PostgreSQL."
            ) from error
        raise
    except PoolTimeout as error:
        raise TryLater(
            "All connections of this process to PostgreSQL are in use.",
            "Try again; see what runs: fennox run list.",
        ) from error


def broken_constraint(error: IntegrityError) -> str | None:
    """The violated constraint or index, from PostgreSQL's error fields."""
    diagnosis = getattr(error.orig, "diag", None)
    return diagnosis.constraint_name if diagnosis is not None else None


def _lacks(error: DBAPIError) -> TryLater | None:
    """The resource PostgreSQL lacks, by error class 53 (insufficient resources); None: another
    error.
    """
    match getattr(error.orig, "sqlstate", None):
        case "53100":
            return TryLater("PostgreSQL's disk is full.", "Free space on the database's machine.")
        case "53200":
            return TryLater("PostgreSQL has no memory left.", "Check the database's machine.")
        case "53300":
            return TryLater(
                "PostgreSQL has no connection left.",
                "Raise max_connections, or stop what holds them.",
            )
        case "53400" | "53000":
            return TryLater("PostgreSQL has reached a limit of its settings.", "Check its log.")
        case _:
            return None
