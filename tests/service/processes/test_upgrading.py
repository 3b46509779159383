"""An older process beneath a newer one's migration: it takes no work, says so, and ends what it
has.
"""

from __future__ import annotations

from pathlib import Path

import httpx
import psycopg
import pytest
from alembic.script import ScriptDirectory

from fennox.catalogue import schema
from fennox.client.api import ProblemError
from fennox.core.errors import Outdated
from fennox.core.facts.run_orders import TakeOrder
from fennox.service.machines.context import Context
from fennox.service.runs import claims, new_runs
from fennox.service.runs.claims import Claimant
from fennox.wire.backups import NewTake
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.contexts import START, add_system
from tests.service.running import PASSWORD, Service, until

NEXT = "9999"


def migrate(database: str) -> None:
    """What the next version does to the tables: a column that this one does not know, and the
    number.
    """
    with psycopg.connect(database.replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute("alter table runs add column waited_for interval not null default '0'")
        connection.execute("update alembic_version set version_num = %s", (NEXT,))


def test_the_number_that_is_checked_is_that_of_the_newest_migration() -> None:
    folder = Path(schema.__file__).parent / "migrations"
    assert ScriptDirectory(str(folder)).get_heads() == [schema.NUMBER]


async def test_nothing_is_claimed_of_a_newer_schema(context: Context) -> None:
    async with context.session() as session:
        run = await new_runs.enqueue(
            session,
            TakeOrder(),
            new_runs.About(system_id=await add_system(context, "web-9")),
            by="x",
            now=START,
        )
    migrate(str(context.settings.database))
    async with context.session() as session:
        assert await claims.claim(session, Claimant("old"), 30, START) is None
    with pytest.raises(Outdated, match=f"schema {NEXT}; this one, .*, knows {schema.NUMBER}"):
        await context.check_schema()
    assert run.state == "queued"


@pytest.mark.long
def test_an_old_service_stops_working_with_a_sentence_and_what_waits_is_left_to_the_new_one(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"
        migrate(service.database)
        until(lambda: "this worker takes nothing new" in service.log, "the worker has said so")
        with pytest.raises(
            ProblemError, match="A newer Fennox has brought the database to schema 9999"
        ) as refused:
            client.take(NewTake(system="web-9"))
        assert refused.value.slug == "outdated"
        signed = httpx.post(
            f"{service.address}/api/v1/session",
            json={"user": "harbour-admin", "password": PASSWORD},
            trust_env=False,
        )
        assert (signed.status_code, signed.json()["type"]) == (503, "urn:fennox:outdated")
        assert httpx.get(f"{service.address}/healthz", trust_env=False).status_code == 200
        assert httpx.get(f"{service.address}/readyz", trust_env=False).status_code == 503
    told = service.fennox("status")
    assert told.returncode == 1
    assert "Stop this process, and start the new version in its place." in told.stderr
    assert "A mistake in Fennox" not in service.log
