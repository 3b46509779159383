"""Run sheets that were drafted before a restore had a purpose."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from alembic import command
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session

from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.systems import System
from fennox.catalogue.schema import config, upgrade
from fennox.core.restoring.sheet import Sheet
from tests.database import admin, url
from tests.service.contexts import sheet_of

PROVED = {
    "proved": True,
    "lists": [],
    "left_out_lists": [],
    "checks": [],
    "at": "2026-03-01T12:00:00Z",
}
# at_another_machine, takes_over and proof of each sheet, then its purpose and whether it counts as
# accepted
BEFORE: list[tuple[bool, bool | None, object, str, bool]] = [
    (False, None, PROVED, "repair", False),
    (True, None, None, "practise", False),
    (True, False, PROVED, "practise", False),
    (True, True, None, "replace", False),
    (True, True, PROVED, "replace", True),
]
_NEW = ("purpose", "system_address", "spare", "new_name", "new_identity", "accepted", "accepted_by")


def of_before(elsewhere: bool, takes_over: bool | None, proof: object) -> dict[str, object]:
    sheet = sheet_of("web-9", "s", "b").model_dump(mode="json")
    for name in _NEW:
        del sheet[name]
    for step in sheet["steps"]:
        del step["usually"]
    return sheet | {"at_another_machine": elsewhere, "takes_over": takes_over, "proof": proof}


@pytest.fixture
def before(postgres: Path) -> Iterator[str]:
    """A database as the version before left it, with sheets of each sort."""
    admin(postgres, "drop database if exists sheets_of_before with (force)")
    admin(postgres, "create database sheets_of_before")
    address = url(postgres, "sheets_of_before")
    command.upgrade(config(address), "0028")
    with psycopg.connect(address.replace("+psycopg", "")) as connection:
        connection.execute(
            "insert into logins (id, name, account, proves_by, sealed_secret, changed)"
            " values ('l', 'quay-root', 'root', 'key', '', now())"
        )
        connection.execute(
            "insert into systems (id, name, folder, kind, address, login_id, key, site, labels,"
            " settings, needs, suspended_because, left_open, retired_because, let_go, differs,"
            " differs_state, default_logins, disordered, version, created) values ('s', 'web-9',"
            " 'web-9-s', 'linux-server', '10.0.0.1:22', 'l', 'k', '', '[]', '{}', '[]', '', '[]',"
            " '', false, '', '', '[]', false, 1, now())"
        )
        for number, (elsewhere, takes_over, proof, _, _) in enumerate(BEFORE):
            connection.execute(
                "insert into sheets (id, system_id, backup_id, target_login_id, state, data,"
                " version, created, by) values (%s, 's', 'b', 'l', 'proved', %s, 1, now(), 'x')",
                (f"{number:03}", json.dumps(of_before(elsewhere, takes_over, proof))),
            )
    yield address
    admin(postgres, "drop database sheets_of_before with (force)")


def kept(address: str) -> tuple[list[Sheet], list[str], bool]:
    """The sheets, their purposes as queries see them, and whether the system is a spare."""
    engine = create_engine(address)
    with Session(engine) as session:
        sheets = list(session.execute(select(SheetRow.data).order_by(SheetRow.id)).scalars())
        purposes = select(SheetRow.data["purpose"].astext).order_by(SheetRow.id)
        asked = list(session.execute(purposes).scalars())
        spare = session.execute(select(System.spare)).scalar_one()
    engine.dispose()
    return sheets, asked, spare


def test_sheets_of_before_are_converted(before: str) -> None:
    upgrade(before)
    sheets, asked, spare = kept(before)
    assert asked == [row[3] for row in BEFORE]
    assert [sheet.purpose for sheet in sheets] == asked
    assert [sheet.accepted is not None for sheet in sheets] == [row[4] for row in BEFORE]
    assert not spare


def test_the_conversion_can_be_taken_back(before: str) -> None:
    upgrade(before)
    command.downgrade(config(before), "0028")
    with psycopg.connect(before.replace("+psycopg", "")) as connection:
        raw = [row[0] for row in connection.execute("select data from sheets order by id")]
    assert [sheet["at_another_machine"] for sheet in raw] == [row[0] for row in BEFORE]
    assert not [sheet for sheet in raw if set(_NEW) & set(sheet)]


def test_the_own_state_of_before_is_read_the_same_way() -> None:
    sheets = [Sheet.model_validate(of_before(*row[:3])) for row in BEFORE]
    assert [sheet.purpose for sheet in sheets] == [row[3] for row in BEFORE]
    assert [sheet.accepted is not None for sheet in sheets] == [row[4] for row in BEFORE]
