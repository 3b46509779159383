"""The process that tests fork their programs from is first a service itself, where it is told so.

What is done for the first time takes longer: statements are compiled, kinds are read, shapes are
looked up. That was a quarter of what the tests of the service cost; forks of a process that has
done it need not do it again. See ``tests/seasoning.py`` for what it does.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import wraps
from pathlib import Path
from typing import Any

from sqlalchemy.dialects.postgresql.psycopg import PGDialectAsync_psycopg
from sqlalchemy.ext.asyncio import AsyncEngine, create_async_engine

FOLDER = "TESTS_FIRST_SERVICE"
"""Environment of a process that is to be a service first: the folder of its log."""

ENDED = "ended"
"""A file in that folder, once the process forks programs."""


def _serve(folder: Path) -> None:
    from fennox.cli.main import run as fennox
    from tests import forked_beside

    _share_statements()
    forked_beside.fork_beside()
    # the web server ends by the signal that it was given
    ending = signal.signal(signal.SIGTERM, signal.SIG_IGN)
    words, sys.argv = sys.argv, ["fennox", "serve"]
    with _written_to(folder / "log"), suppress(SystemExit):
        fennox()
    sys.argv = words
    signal.signal(signal.SIGTERM, ending)
    (folder / ENDED).touch()


@contextmanager
def _written_to(log: Path) -> Iterator[None]:
    kept = [os.dup(number) for number in (1, 2)]
    opened = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    for number in (1, 2):
        os.dup2(opened, number)
    os.close(opened)
    yield
    sys.stdout.flush()
    for number, before in zip((1, 2), kept, strict=True):
        os.dup2(before, number)
        os.close(before)


def _share_statements() -> None:
    """Compiled statements are kept by engine and dialect. All services of a run are connected to
    one server in the same way, so their dialects are alike.
    """
    from fennox.service.foundation import postgresql

    statements: dict[Any, Any] = {}

    @wraps(create_async_engine)
    def create(*given: Any, **named: Any) -> AsyncEngine:
        engine = create_async_engine(*given, **named)
        engine.sync_engine._compiled_cache = statements
        return engine

    def equal(dialect: object, other: object) -> bool:
        return type(dialect) is type(other)

    of_a_dialect = {"__eq__": equal, "__hash__": lambda dialect: hash(type(dialect))}
    for name, method in of_a_dialect.items():
        setattr(PGDialectAsync_psycopg, name, method)
    vars(postgresql)["create_async_engine"] = create


if FOLDER in os.environ:
    _serve(Path(os.environ[FOLDER]))
