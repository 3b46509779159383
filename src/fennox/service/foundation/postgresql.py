"""Connections to PostgreSQL, and what its library says as errors of ours."""

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
)  # serialization failure, deadlock: of two transactions, one is ended as if it had never begun


def connect(settings: Settings) -> AsyncEngine:
    # A process that is paused in a transaction must not hold a run's row for longer than its lease.
    idle = f"-c idle_in_transaction_session_timeout={int(settings.lease_seconds * 1000)}"
    # Answers are short and what they need lies in memory: to compile one takes longer than all of
    # it.
    planned = "-c jit=off -c random_page_cost=1.1"
    engine = create_async_engine(
        settings.database,
        pool_size=20,
        max_overflow=20,
        hide_parameters=True,  # what people send does not belong in logs
        json_deserializer=from_json,  # a fifth of the time of the one of the standard library
        connect_args={"options": f"{idle} {planned}"},
    )
    ask_the_idle(engine)
    return engine


@contextmanager
def in_words() -> Iterator[None]:
    """What the database's library says, as an error of ours."""
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
                "The database does not answer.", "Try again; look at PostgreSQL."
            ) from error
        raise
    except PoolTimeout as error:
        raise TryLater(
            "All connections of this process to PostgreSQL are in use.",
            "Try again; see what runs: fennox run list.",
        ) from error


def broken_constraint(error: IntegrityError) -> str | None:
    """The name of the constraint or index that a statement met, as PostgreSQL reports it beside its
    text.
    """
    diagnosis = getattr(error.orig, "diag", None)
    return diagnosis.constraint_name if diagnosis is not None else None


def _lacks(error: DBAPIError) -> TryLater | None:
    """What PostgreSQL lacks, by class 53 of its error codes (insufficient resources); None: it is
    something else.
    """
    match getattr(error.orig, "sqlstate", None):
        case "53100":
            return TryLater(
                "PostgreSQL's disk is full.", "Make room on the machine of the database."
            )
        case "53200":
            return TryLater(
                "PostgreSQL has no memory left.", "Look at the machine of the database."
            )
        case "53300":
            return TryLater(
                "PostgreSQL has no connection left.",
                "Raise max_connections, or stop what holds them.",
            )
        case "53400" | "53000":
            return TryLater("PostgreSQL has reached a limit of its settings.", "Look at its log.")
        case _:
            return None
