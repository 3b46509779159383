"""Bringing a database to the newest schema, by Alembic; one that is starting is waited for."""

from __future__ import annotations

import time
from collections.abc import Callable
from importlib.resources import files

from alembic import command
from alembic.config import Config
from alembic.util import CommandError
from sqlalchemy.exc import DBAPIError, OperationalError, ProgrammingError

from fennox.core.errors import FennoxError, MendSettings, TryLater

NUMBER = "0022"  # of the newest migration
_PATIENCE = 60.0  # seconds that a database may need until it is there, as after a start of the machine
_PAUSE = 0.5  # seconds between tries
_MAY_PASS = ("the database system", "too many", "connection slots")  # words of a PostgreSQL that starts or is full


def upgrade(url: str, waiting: Callable[[TryLater], None] | None = None, patience: float = _PATIENCE) -> None:
    """Run every migration that is missing. ``waiting`` is told once if the database must be waited for.

    Raises ``TryLater`` if it does not come, ``MendSettings`` if it refuses us or is not ours to use.
    """
    end, told = time.monotonic() + patience, False
    while True:
        try:
            command.upgrade(_config(url), "head")
            return
        except CommandError as error:
            raise MendSettings(
                "The database was brought to a schema that this Fennox does not know.",
                "Run the newest Fennox that has used it, or give another database.",
            ) from error
        except (OperationalError, ProgrammingError) as error:
            problem = _in_words(error)
        if not isinstance(problem, TryLater) or time.monotonic() > end:
            raise problem
        if not told and waiting is not None:
            waiting(problem)
        told = True
        time.sleep(_PAUSE)


def _in_words(error: DBAPIError) -> FennoxError:
    """Whether a database that could not be used may come by itself. What a driver says never holds the password."""
    lines = str(error.orig).strip().splitlines()
    said = lines[0].removeprefix("connection failed: ").rstrip(".") if lines else type(error.orig).__name__
    refused = "FATAL:" in said and not any(words in said for words in _MAY_PASS)
    if refused or isinstance(error, ProgrammingError):
        return MendSettings(f"The database cannot be used: {said}.", "Mend FENNOX_DATABASE or what that user may do.")
    return TryLater(f"The database does not answer: {said}.", "Start PostgreSQL, or mend FENNOX_DATABASE.")


def _config(url: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(files("fennox.catalogue").joinpath("migrations")))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config
