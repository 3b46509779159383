"""What came of runs: as facts in the database, also of runs of before; each kind in words; nothing
else gets in.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

import psycopg
import pytest
from alembic import command
from pydantic import ValidationError
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session

from fennox.catalogue.models.runs import Run
from fennox.catalogue.schema import config, upgrade
from fennox.core.facts import run_results
from fennox.core.facts.run_results import RunResult, TakeResult
from fennox.service.runs.outcomes import in_words
from tests.database import admin, url

# run kind, result as it was kept, and what it says now
BEFORE: list[tuple[str, dict[str, Any], str]] = [
    (
        "take",
        {
            "backup": "b",
            "documents": 3,
            "bytes": 9,
            "new_bytes": 2048,
            "objects": 2,
            "unchanged": False,
            "changed": 1,
            "new": 0,
            "gone": 2,
        },
        "3 documents, 2.0 kB new (1 document changed, 2 documents gone)",
    ),
    (
        "take",
        {
            "backup": "b",
            "documents": 1,
            "bytes": 9,
            "new_bytes": 2,
            "objects": 1,
            "unchanged": True,
        },
        "1 document, unchanged",
    ),
    ("look", {"differs": "changed /etc/a"}, "it differs: changed /etc/a"),
    ("look", {"differs": ""}, "as its last backup"),
    ("draft", {"sheet": "s", "blockers": 1}, "run sheet written"),
    (
        "deploy",
        {"deployment": "d", "act": "draft"},
        "it is written down what the machine would be made with",
    ),
    (
        "deploy",
        {"deployment": "d", "act": "make", "address": "127.0.0.1:8460"},
        "the new machine answers at 127.0.0.1:8460",
    ),
    ("deploy", {"deployment": "d", "act": "undo"}, "the machine was taken away"),
    (
        "restore",
        {"sheet": "s", "proved": True, "missing": 0},
        "proved: all that was compared is there again",
    ),
    ("restore", {"sheet": "s", "undone": 2}, "given up, 2 steps undone"),
    (
        "copy",
        {
            "backup": "b",
            "from": "attic",
            "to": "pier",
            "objects": 1,
            "new_bytes": 5,
            "sealed_anew": True,
        },
        "from attic, 5 B new, resealed",
    ),
    (
        "scrub",
        {
            "objects": 4,
            "bytes": 7,
            "damaged": 0,
            "healed": 0,
            "damaged_backups": 0,
            "unknown_backups": 0,
            "foreign": 0,
            "gaps": 0,
            "passed_over": 0,
        },
        "4 objects, 7 B; nothing is damaged",
    ),
    (
        "verify",
        {"backups": 2, "opened": 2, "damaged_backups": 0},
        "2 of 2 backups opened and read whole",
    ),
    (
        "sweep",
        {
            "records": 1,
            "condemned": 0,
            "deleted": 0,
            "freed": 3,
            "later": 0,
            "repacked": 0,
            "superseded": 0,
            "unfinished": 0,
            "locked": 0,
            "locked_until": None,
        },
        "1 backup removed, 3 B freed",
    ),
    (
        "sweep",
        {
            "preview": True,
            "records": 1,
            "condemned": 0,
            "deleted": 0,
            "freed": 3,
            "later": 4,
            "repacked": 0,
            "locked": 0,
            "locked_until": None,
            "doubts": "",
        },
        "only looked: 3 B now, 4 B after the grace",
    ),
    (
        "rekey",
        {"backups": 1, "failed": 0, "generation": 2},
        "1 backup resealed, key generation 2",
    ),
    (
        "adopt",
        {"backups": 1, "copies": 0, "systems": 1, "unreadable": 0, "gone": 0},
        "1 backup of 1 system brought in",
    ),
    ("take", {"offered": "SHA256:x"}, "it proved itself by SHA256:x"),
]


@pytest.fixture
def before(postgres: Path) -> Iterator[str]:
    """A database as the version before left it, with a run of each sort and one to which nothing
    came.
    """
    admin(postgres, "drop database if exists of_before with (force)")
    admin(postgres, "create database of_before")
    address = url(postgres, "of_before")
    command.upgrade(config(address), "0026")
    with psycopg.connect(address.replace("+psycopg", "")) as connection:
        for number, (kind, value, _) in enumerate([*BEFORE, ("take", {}, "")]):
            connection.execute(
                """
                insert into runs (id, kind, state, "order", result, by, created, attempt, fence,
                stop_asked, step,
                                  documents, size, reason, remedy, odd)
                values (%s, %s, 'done', '{}', %s, 'x', now(), 1, 1, false, '', 0, 0, '', '', '')
                """,
                (f"{number:03}", kind, json.dumps(value)),
            )
    yield address
    admin(postgres, "drop database of_before with (force)")


def kept(address: str) -> list[RunResult | None]:
    engine = create_engine(address)
    with Session(engine) as session:
        found = list(session.execute(select(Run.result).order_by(Run.id)).scalars())
    engine.dispose()
    return found


def test_results_of_before_are_converted_and_can_be_taken_back(before: str) -> None:
    upgrade(before)
    found = kept(before)
    assert [in_words(one) if one else None for one in found] == [
        *(words for _, _, words in BEFORE),
        None,
    ]
    assert found[:-1] == [
        run_results.load(run_results.of_before(kind, value)) for kind, value, _ in BEFORE
    ]
    command.downgrade(config(before), "0026")
    with psycopg.connect(before.replace("+psycopg", "")) as connection:
        raw = [row[0] for row in connection.execute("select result from runs order by id")]
    assert raw == [*(value for _, value, _ in BEFORE), {}]


def test_every_sort_is_among_them() -> None:
    sorts = {
        type(run_results.load(run_results.of_before(kind, value))) for kind, value, _ in BEFORE
    }
    assert sorts == set(get_args(RunResult))


def test_what_is_no_result_is_neither_written_nor_read() -> None:
    with pytest.raises(ValidationError):
        run_results.load({"kind": "take", "backup": "b"})
    with pytest.raises(ValidationError):
        run_results.load({"kind": "tide", "backup": "b"})
    whole = TakeResult(backup="b", documents=1, bytes=2, new_bytes=3, objects=4, unchanged=False)
    assert run_results.load(run_results.dump(whole)) == whole
    assert run_results.load(run_results.dump(None)) is None
