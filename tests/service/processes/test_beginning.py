"""How a service and a worker begin: with a database that is not there yet, refuses them, or is not
theirs.
"""

from __future__ import annotations

import time
from pathlib import Path

import httpx
import private_postgres
import psycopg
import pytest

from fennox.catalogue.schema import upgrade
from fennox.core.errors import MendSettings, TryLater
from fennox.service.foundation.settings import Settings
from fennox.service.processes import wiring
from fennox.service.processes.wiring import make_service, read_settings
from tests.database import admin, url
from tests.service.running import Service, until


def test_a_worker_waits_for_a_database_that_comes_after_it(
    database: str, postgres: Path, tmp_path: Path
) -> None:
    service = Service(tmp_path, database, "127.0.0.1", 1)
    log = tmp_path / "worker-log"
    private_postgres.stop(postgres, "immediate")
    try:
        worker = service.start_worker()
        until(lambda: log.exists() and "waiting for the database" in log.read_text(), "it waits")
        assert worker.poll() is None
    finally:
        private_postgres.start(postgres, sync=False)
    until(lambda: "worker ready" in log.read_text(), "it works")
    assert log.read_text().count("waiting for the database") == 1, "said once"
    service.stop()


def test_one_that_does_not_come_is_told(postgres: Path) -> None:
    nowhere = f"postgresql+psycopg://fennox:three-grey-boats@/x?host={postgres}/nowhere"
    told: list[TryLater] = []
    with pytest.raises(TryLater, match=r"does not answer: .*nowhere") as raised:
        upgrade(nowhere, told.append, patience=0)
    assert not told
    assert "three-grey-boats" not in str(raised.value)


def test_one_that_refuses_is_not_waited_for(postgres: Path, database: str) -> None:
    begun = time.monotonic()
    with pytest.raises(
        MendSettings, match=r'cannot be used: .*database "no_such_one" does not exist'
    ):
        upgrade(url(postgres, "no_such_one"))
    admin(postgres, "create role reader login")
    admin(postgres, "create database not_ours owner fennox")
    try:
        with pytest.raises(MendSettings, match="cannot be used: permission denied"):
            upgrade(url(postgres, "not_ours").replace("fennox@", "reader@"))
    finally:
        admin(postgres, "drop database not_ours")
        admin(postgres, "drop role reader")
    with psycopg.connect(database.replace("+psycopg", "")) as connection:
        connection.execute("update alembic_version set version_num = '9999_of_next_year'")
    with pytest.raises(MendSettings, match="a schema that this Fennox does not know"):
        upgrade(database)
    assert time.monotonic() - begun < 50, "nothing of this comes by itself"


@pytest.mark.parametrize(
    "written", ["", "nonsense", "mysql://a:b@c/d", "postgresql+psycopg://a@b:x/c"]
)
def test_what_is_no_address_of_a_database_is_said_at_once(written: str, tmp_path: Path) -> None:
    with pytest.raises(MendSettings, match="write the database as postgresql://"):
        read_settings(database=written, state=tmp_path)


def test_the_driver_of_the_database_need_not_be_named(tmp_path: Path) -> None:
    for written in ("postgresql://a@b/c", "postgresql+psycopg://a@b/c"):
        assert (
            read_settings(database=written, state=tmp_path).database == "postgresql+psycopg://a@b/c"
        )


async def test_its_duties_know_of_the_requests_that_people_wait_for(
    database: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(
        wiring, "look_for_garbage_seldom", lambda: None
    )  # it would hold for all tests after this one
    app = make_service(
        Settings(database=database, state=tmp_path / "state", weak_slots=True, workers=0), None
    )
    async with app.router.lifespan_context(app):
        number = app.state.context.turns.begin()
        async with httpx.AsyncClient(
            transport=httpx.ASGITransport(app), base_url="http://localhost"
        ) as client:
            assert (await client.get("/readyz")).status_code == 200
        assert app.state.context.turns.begin() == number + 2
