"""What runs are to do: facts in the database, also for runs queued by an earlier version; one order
for each kind.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

import psycopg
import pytest
from alembic import command
from psycopg.errors import CheckViolation
from pydantic import ValidationError
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session

from fennox.catalogue.models.runs import Run
from fennox.catalogue.schema import config, upgrade
from fennox.core.facts import run_orders
from fennox.core.facts.run_orders import (
    AdoptOrder,
    Aim,
    CopyOrder,
    DeployOrder,
    DraftOrder,
    LookOrder,
    RekeyOrder,
    RestoreOrder,
    RunKind,
    RunOrder,
    ScrubOrder,
    SweepOrder,
    TakeOrder,
    VerifyOrder,
)
from tests.database import admin, url

_AIM = {"login": "l", "address": "web-9:22", "key": "SHA256:x"}
_ENTRANCE = {"login": "e", "address": "web-9:443", "key": "SHA256:y"}

# run kind, order as it was kept, and what it is now
BEFORE: list[tuple[str, dict[str, Any], RunOrder]] = [
    ("take", {"name": "", "note": "", "parts": None}, TakeOrder()),
    (
        "take",
        {"name": "before", "note": "n", "parts": ["a"], "hold": "audit"},
        TakeOrder(name="before", note="n", parts=["a"], hold="audit"),
    ),
    (
        "take",
        {"name": "", "note": "", "parts": ["c"], "handed_in": "export.xml"},
        TakeOrder(parts=["c"], handed_in="export.xml"),
    ),
    (
        "take",
        {"name": "", "note": "d", "parts": None, "differs": True},
        TakeOrder(note="d", differs=True),
    ),
    ("look", {}, LookOrder()),
    ("draft", {"backup": "b", **_AIM, "parts": None}, DraftOrder(backup="b", target=Aim(**_AIM))),
    (
        "draft",
        {"backup": "b", **_AIM, "parts": ["p"], "entrance": _ENTRANCE, "opens": "s"},
        DraftOrder(
            backup="b", target=Aim(**_AIM), parts=["p"], entrance=Aim(**_ENTRANCE), opens="s"
        ),
    ),
    (
        "restore",
        {"safety_backup": "b", "safety_time": "2026-06-01T00:00:00Z"},
        RestoreOrder(safety_backup="b", safety_time="2026-06-01T00:00:00Z"),
    ),
    ("copy", {"backup": "b"}, CopyOrder(backup="b")),
    ("scrub", {}, ScrubOrder()),
    ("scrub", {"share": [4, 5]}, ScrubOrder(share=(4, 5))),
    ("verify", {"most": 3}, VerifyOrder(most=3)),
    ("verify", {"backup": "b", "by_hand": True}, VerifyOrder(backup="b", by_hand=True)),
    ("sweep", {"preview": True, "confirmed": ["b"]}, SweepOrder(preview=True, confirmed=["b"])),
    ("adopt", {"standing": True, "opens": "s"}, AdoptOrder(standing=True, opens="s")),
    ("rekey", {}, RekeyOrder()),
    ("deploy", {"deployment": "d", "act": "make"}, DeployOrder(deployment="d", act="make")),
]
_RUN = """
insert into runs (id, kind, state, "order", result, by, created, attempt, fence, stop_asked, step,
       documents, size,
                  reason, remedy, odd)
values (%s, %s, 'done', %s, '{}', 'x', now(), 1, 1, false, '', 0, 0, '', '', '')
"""


@pytest.fixture
def before(postgres: Path) -> Iterator[str]:
    """A database as the version before left it, with a run of each sort."""
    admin(postgres, "drop database if exists orders_of_before with (force)")
    admin(postgres, "create database orders_of_before")
    address = url(postgres, "orders_of_before")
    command.upgrade(config(address), "0027")
    with psycopg.connect(address.replace("+psycopg", "")) as connection:
        for number, (kind, value, _) in enumerate(BEFORE):
            connection.execute(_RUN, (f"{number:03}", kind, json.dumps(value)))
    yield address
    admin(postgres, "drop database orders_of_before with (force)")


def kept(address: str) -> list[RunOrder]:
    engine = create_engine(address)
    with Session(engine) as session:
        rows = list(session.execute(select(Run.order).order_by(Run.id)).scalars())
    engine.dispose()
    return rows


def test_orders_of_before_are_converted(before: str) -> None:
    upgrade(before)
    assert kept(before) == [order for _, _, order in BEFORE]


def test_the_conversion_can_be_taken_back(before: str) -> None:
    upgrade(before)
    command.downgrade(config(before), "0027")
    with psycopg.connect(before.replace("+psycopg", "")) as connection:
        raw = [row[0] for row in connection.execute('select "order" from runs order by id')]
    assert raw == [
        {key: inner for key, inner in value.items() if inner is not None} for _, value, _ in BEFORE
    ]


def test_the_own_state_of_before_is_read_the_same_way() -> None:
    assert [run_orders.load(run_orders.of_before(kind, value)) for kind, value, _ in BEFORE] == [
        row[2] for row in BEFORE
    ]


@pytest.mark.parametrize("order", [{"kind": "sweep"}, {}], ids=str)
def test_a_run_has_an_order_of_its_own_kind_and_no_other(
    before: str, order: dict[str, str]
) -> None:
    upgrade(before)
    with (
        psycopg.connect(before.replace("+psycopg", "")) as connection,
        pytest.raises(CheckViolation),
    ):
        connection.execute(_RUN, ("x", "take", json.dumps(order)))


def test_each_kind_of_run_has_one_order() -> None:
    assert [order.model_fields["kind"].default for order in get_args(RunOrder)] == list(
        get_args(RunKind)
    )


def test_each_order_is_among_those_tried() -> None:
    assert {type(order) for _, _, order in BEFORE} == set(get_args(RunOrder))


@pytest.mark.parametrize("order", [row[2] for row in BEFORE], ids=str)
def test_an_order_comes_back_as_it_was_kept(order: RunOrder) -> None:
    assert run_orders.load(run_orders.dump(order)) == order


@pytest.mark.parametrize(
    "value", [{}, {"kind": "tide"}, {"kind": "copy"}, {"kind": "draft", "backup": "b"}], ids=str
)
def test_what_is_no_order_is_not_read(value: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        run_orders.load(value)


def test_an_order_does_not_reach_what_carries_out_another() -> None:
    with pytest.raises(TypeError, match="An order to sweep"):
        run_orders.of_kind(SweepOrder(), TakeOrder)
