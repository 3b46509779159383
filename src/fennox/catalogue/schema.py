"""Migrating a database to the newest schema with Alembic; waits for a database that is starting."""

from __future__ import annotations

import time
from collections.abc import Callable
from importlib.resources import files
from typing import TYPE_CHECKING

from sqlalchemy import create_engine, inspect, text
from sqlalchemy.exc import DBAPIError, OperationalError, ProgrammingError
from sqlalchemy.pool import NullPool

from fennox.core.errors import FennoxError, MendSettings, TryLater

if TYPE_CHECKING:
    from alembic.config import Config

NUMBER = "0035"  # of the newest migration
_PATIENCE = 60.0  # seconds to wait for the database, as after a boot
_PAUSE = 0.5  # seconds between tries
_MAY_PASS = (
    "the database system",
    "too many",
    "connection slots",
)  # messages of a PostgreSQL that is starting or out of connections


def upgrade(
    url: str, waiting: Callable[[TryLater], None] | None = None, patience: float = _PATIENCE
) -> None:
    """Run every pending migration. ``waiting`` is called once if the database is not up yet.

    Raises ``TryLater`` if it does not come, ``MendSettings`` if it refuses the connection or
    belongs to another program.
    """
    end, told = time.monotonic() + patience, False
    while True:
        try:
            if _number(url) != NUMBER:
                _migrate(url)
            return
        except (OperationalError, ProgrammingError) as error:
            problem = _in_words(error)
        if not isinstance(problem, TryLater) or time.monotonic() > end:
            raise problem
        if not told and waiting is not None:
            waiting(problem)
        told = True
        time.sleep(_PAUSE)


def _number(url: str) -> str | None:
    """The migration the database is at; None: none has been run."""
    engine = create_engine(url, poolclass=NullPool)
    with engine.connect() as connection:
        if not inspect(connection).has_table("alembic_version"):
            return None
        return connection.execute(
            text("select version_num from alembic_version")
        ).scalar_one_or_none()


def _migrate(url: str) -> None:
    # only after an update: Alembic is 3 MB that every start would load and keep
    from alembic import command
    from alembic.util import CommandError

    try:
        command.upgrade(config(url), "head")
    except CommandError as error:
        raise MendSettings(
            "The database was brought to a schema that this Fennox does not know.",
            "Run the newest Fennox that has used it, or give another database.",
        ) from error


def config(url: str) -> Config:
    """Alembic's, for the migrations of this database."""
    from alembic.config import Config

    made = Config()
    made.set_main_option("script_location", str(files("fennox.catalogue").joinpath("migrations")))
    made.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return made


def _in_words(error: DBAPIError) -> FennoxError:
    """Whether an unusable database may recover by itself. Driver messages never contain the
    password.
    """
    lines = str(error.orig).strip().splitlines()
    said = (
        lines[0].removeprefix("connection failed: ").rstrip(".")
        if lines
        else type(error.orig).__name__
    )
    refused = "FATAL:" in said and not any(words in said for words in _MAY_PASS)
    if refused or isinstance(error, ProgrammingError):
        return MendSettings(
            f"The database cannot be used: {said}.",
            "Correct FENNOX_DATABASE or that user's permissions.",
        )
    return TryLater(
        f"The database does not answer: {said}.", "Start PostgreSQL, or correct FENNOX_DATABASE."
    )
