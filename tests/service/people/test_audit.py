"""The audit: all that was done and refused, chained, held against Fennox's own backup, told as it
happens.
"""

from __future__ import annotations

import asyncio
import json
from pathlib import Path

import psycopg
import pytest
from fastapi import FastAPI
from sqlalchemy import delete, select, update

from fennox.catalogue.models.people import Audit
from fennox.service.machines.context import Context
from fennox.service.own_state import audit_chain
from fennox.service.people.strangers import Strangers
from fennox.wire.backups import NewTake
from fennox.wire.comparing import CompareWanted, TraceWanted
from fennox.wire.ownstate import OwnStateWanted
from fennox.wire.watch.alerts import NewAlertRoute
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.contexts import START
from tests.service.persons import application, calling, somebody
from tests.service.running import PASSPHRASE, Service, came_to, until


@pytest.fixture
def app(context: Context) -> FastAPI:
    return application(context)


async def written(context: Context, count: int) -> None:
    async with context.session() as session:
        session.add_all(
            [
                Audit(
                    at=START,
                    by="harbour-admin",
                    action="changed",
                    noun="login",
                    name=f"quay-{n}",
                    details={"n": str(n)},
                )
                for n in range(count)
            ]
        )


async def faults(context: Context) -> list[str]:
    return (await audit_chain.check(context)).faults


async def test_a_changed_entry_is_found(context: Context) -> None:
    await written(context, 5)
    assert await faults(context) == []
    for change in (
        {"by": "somebody-else"},
        {"details": {"n": "9"}},
        {"name": "x"},
        {"address": "10.0.0.1"},
    ):
        async with context.session() as session:
            row = (await session.execute(select(Audit).where(Audit.place == 3))).scalar_one()
            before = {name: getattr(row, name) for name in change}
            await session.execute(update(Audit).where(Audit.place == 3).values(change))
        assert "Entry 3 of" in (await faults(context))[0]
        async with context.session() as session:
            await session.execute(update(Audit).where(Audit.place == 3).values(before))
        assert await faults(context) == []


async def test_a_removed_and_an_added_entry_are_found(context: Context) -> None:
    await written(context, 6)
    assert await faults(context) == []
    async with context.session() as session:
        await session.execute(delete(Audit).where(Audit.place.in_((2, 3))))
    assert (await faults(context))[0] == "Entries 2 to 3 are missing."
    async with context.session() as session:
        session.add(
            Audit(
                at=START,
                by="x",
                action="x",
                noun="x",
                name="x",
                details={},
                place=2,
                digest="0" * 64,
            )
        )
    assert any("was changed" in fault for fault in await faults(context))


async def test_many_at_a_time_are_one_chain_and_wait_for_nobody(context: Context) -> None:
    async def write_and_chain(number: int) -> None:
        async with context.session() as session:
            session.add(
                Audit(at=START, by="x", action="did", noun="x", name=str(number), details={})
            )
        async with context.session() as session:
            await audit_chain.chain(context, session)

    await asyncio.gather(*(write_and_chain(number) for number in range(40)))
    checked = await audit_chain.check(context)
    assert (checked.entries, checked.faults) == (40, [])
    assert "no backup of Fennox itself" in checked.not_checked, "what was not looked at is said"


async def test_sign_outs_refusals_and_failures_are_in_it_with_the_address(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "mate", "operator")
    async with calling(app, who) as client:
        await client.delete("/users/nobody")
        await client.delete("/session")
    async with calling(app) as client:
        await client.post("/session", json={"user": "mate", "password": "made up"})
    boss = await somebody(context, "harbour-admin")
    async with calling(app, boss) as client:
        found = (await client.get("/audit", params={"by": "mate"})).json()["items"]
        assert [(one["action"], one["address"]) for one in found] == [
            ("failed to sign in", "127.0.0.1"),
            ("signed out", "127.0.0.1"),
            ("was refused", "127.0.0.1"),
        ]
        assert (await client.get("/audit", params={"action": "refused"})).json()["items"][0][
            "name"
        ] == "remove_user"
        assert (await client.get("/audit", params={"address": "10.1.1.1"})).json()["items"] == []
        assert (await client.get("/audit", params={"since": "2999-01-01T00:00:00Z"})).json()[
            "items"
        ] == []


async def test_knocks_of_strangers_are_in_it_and_do_not_fill_it(
    context: Context, app: FastAPI
) -> None:
    async with calling(app) as client:
        for _ in range(50):
            assert (await client.get("/systems")).status_code == 401
            wrong = {"authorization": "Bearer made-up"}
            assert (await client.delete("/users/mara", headers=wrong)).status_code == 401
    boss = await somebody(context, "harbour-admin")
    async with calling(app, boss) as client:
        [entry] = (await client.get("/audit", params={"action": "not signed in"})).json()["items"]
    assert (entry["by"], entry["address"], entry["name"]) == ("-", "127.0.0.1", "list_systems")


def test_a_stranger_is_counted_and_told_once_a_minute() -> None:
    strangers = Strangers()
    assert strangers.to_tell("10.0.0.9", 0) == 1
    assert [strangers.to_tell("10.0.0.9", second) for second in range(1, 60)] == [None] * 59
    assert strangers.to_tell("10.0.0.7", 59) == 1, "others are told apart"
    assert strangers.to_tell("10.0.0.9", 61) == 60
    for number in range(5000):
        strangers.to_tell(f"10.1.{number >> 8}.{number & 255}", 62)
    assert strangers.to_tell("10.0.0.9", 63) == 1, "it was forgotten: memory has an end"


def test_looks_probes_comparisons_traces_and_wrong_passphrases_are_in_it(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        backup = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
        client.probe("web-9")
        client.compare(CompareWanted(before=backup, after=backup))
        client.trace(TraceWanted(system="web-9", document="/etc/hosts"))
    wrong = service.file("wrong", "made up by somebody else\n")
    codes = [service.fennox("passphrase", "try", "--passphrase-file", wrong) for _ in range(9)]
    assert "Too many attempts" in codes[-1].stderr
    right = service.file("right", f"{PASSPHRASE}\n")
    assert (
        "Too many attempts"
        in service.fennox("passphrase", "try", "--passphrase-file", right).stderr
    )
    with service.client() as client:
        seen = [(entry.action, entry.name) for entry in client.audit(100)]
        [probed] = [entry for entry in client.audit(100, action="probed")]
        assert ("compared", "web-9") in seen
        assert ("traced", "web-9") in seen
        assert seen.count(("gave a wrong passphrase for", "try_passphrase")) == 8
        assert (probed.details["login"], probed.details["key"]) == ("quay-root", server.host_key)
        assert probed.details["address"] == f"{server.host}:{server.port}"
        until(
            lambda: any("wrong passphrases" in concern.text for concern in client.concerns()),
            "it is a concern",
        )
    assert PASSPHRASE not in str(seen)


def test_a_chain_that_was_computed_anew_does_not_match_the_own_backup(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    """Whoever may write to the database can compute all digests anew; what a store holds they
    cannot.
    """
    enrol(service, server, key_pair[0])
    with service.client() as client:
        client.keep_own_state(OwnStateWanted(store="attic", on_this_machine=True))
        until(lambda: client.backups(system="fennox") != [], "the own state is kept")
        before = service.fennox("audit", "check")
        assert before.returncode == 0, before.stderr
        assert "Compared with Fennox's own backup" in before.stderr, before.stderr
        with psycopg.connect(service.database.replace("+psycopg", "")) as database:
            database.execute("update audit set by = 'somebody-else' where place = 2")
            database.execute("update audit set place = null, digest = ''")
        after = service.fennox("audit", "check")
    assert after.returncode == 1
    assert "is not as Fennox's own backup" in after.stderr
    assert "1 entries" not in after.stderr


def test_it_is_told_as_it_happens(service: Service) -> None:
    """What is outside cannot be changed by whoever holds the database."""
    path = service.folder / "audit.jsonl"
    with service.client() as client:
        client.add_alert(NewAlertRoute(name="watch", channel="file", address=str(path), audit=True))
        client.add_alert(
            NewAlertRoute(name="quiet", channel="file", address=str(service.folder / "no.jsonl"))
        )
        client.end_other_sessions()
        until(lambda: "ended other sessions of" in _text(path), "the entry was told")
        line = json.loads(_text(path).splitlines()[-1])
        assert line["type"] == "fennox.audit"
        newest = client.audit(1)[0]
        assert line["data"]["entry"]["digest"] == newest.digest
        assert newest.digest
    assert _text(service.folder / "no.jsonl") == ""


def _text(path: Path) -> str:
    return path.read_text() if path.exists() else ""
