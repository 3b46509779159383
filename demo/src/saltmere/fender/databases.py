"""The two databases that Fender may keep its objects in: ``(sort, name, value)`` each."""

import sqlite3
import subprocess
from collections.abc import Iterable
from contextlib import closing
from pathlib import Path

from saltmere.command_line import Refused

BUILT_IN = Path("/var/lib/fender/objects.db")
Rows = list[tuple[str, str, str]]
_TABLE = "create table objects (sort text, name text, value text, primary key (sort, name))"


class BuiltIn:
    """A file of its own."""

    def make(self) -> None:
        with closing(sqlite3.connect(BUILT_IN)) as db, db:
            db.execute(_TABLE)

    def rows(self) -> Rows:
        with closing(sqlite3.connect(BUILT_IN)) as db:
            return list(db.execute("select sort, name, value from objects order by sort, name"))

    def replace(self, rows: Iterable[tuple[str, str, str]]) -> None:
        with closing(sqlite3.connect(BUILT_IN)) as db, db:
            db.execute("delete from objects")
            db.executemany("insert into objects values (?, ?, ?)", rows)


class PostgreSql:
    """The database ``fender`` of the server's own PostgreSQL, as its administrator."""

    def make(self) -> None:
        _psql("postgres", "create database fender")
        _psql("fender", _TABLE)

    def rows(self) -> Rows:
        told = _psql("fender", "copy (select * from objects order by sort, name) to stdout")
        found = [line.split("\t") for line in told.splitlines()]
        return [(sort, name, value) for sort, name, value in found]

    def replace(self, rows: Iterable[tuple[str, str, str]]) -> None:
        lines = "".join("\t".join(row) + "\n" for row in rows)
        script = f"begin;\ndelete from objects;\ncopy objects from stdin;\n{lines}\\.\ncommit;\n"
        _psql("fender", script)


def _psql(database: str, script: str) -> str:
    words = ["runuser", "-u", "postgres", "--", "psql", "-XAtq", "-v", "ON_ERROR_STOP=1"]
    done = subprocess.run(
        [*words, "-d", database], input=script, capture_output=True, text=True, check=False
    )
    if done.returncode != 0:
        raise Refused(f"PostgreSQL: {done.stderr.strip()}")
    return done.stdout
