"""A private PostgreSQL for a test process, and a fresh migrated database for each test that wants
one.
"""

from __future__ import annotations

import itertools
import os
import shutil
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg
import pytest

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))
import private_postgres

_ROOM = 4 << 30  # bytes: the log of a server grows to one gigabyte, and several serve at a time
_count = itertools.count()


@pytest.fixture(scope="session")
def postgres() -> Iterator[Path]:
    """Where the server's own account may enter. A database in memory costs a third to make and
    to drop.
    """
    from fennox.catalogue.schema import upgrade  # most tests do without what this loads

    folder = Path(tempfile.mkdtemp(prefix="fennox-pg-", dir=_place()))
    private_postgres.start(folder, sync=False)
    try:
        admin(folder, "create database template_catalogue")
        upgrade(url(folder, "template_catalogue"))
        yield folder
    finally:
        private_postgres.stop(folder, "immediate")
        shutil.rmtree(folder, ignore_errors=True)


def _place() -> str:
    memory = Path("/dev/shm")
    if os.access(memory, os.W_OK) and shutil.disk_usage(memory).free > _ROOM:
        return str(memory)
    return "/tmp"


@pytest.fixture
def database(postgres: Path) -> Iterator[str]:
    """The URL of a database with the newest schema and nothing in it."""
    with fresh_database(postgres) as made:
        yield made


@pytest.fixture
def second_database(postgres: Path) -> Iterator[str]:
    """Another one, for a second service."""
    with fresh_database(postgres) as made:
        yield made


@contextmanager
def fresh_database(postgres: Path) -> Iterator[str]:
    """Its URL. It is dropped afterwards."""
    name = f"test_{os.getpid()}_{next(_count)}"
    admin(postgres, f"create database {name} template template_catalogue strategy file_copy")
    yield url(postgres, name)
    admin(postgres, f"drop database if exists {name} with (force)")


def url(folder: Path, name: str) -> str:
    return f"postgresql+psycopg://fennox@/{name}?host={folder}/socket"


def admin(folder: Path, statement: str) -> None:
    address = f"postgresql://fennox@/postgres?host={folder}/socket"
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute(statement.encode())
