"""Whoever reaches a part of the estate: nothing outside of it is shown, counted, streamed or acted
on.
"""

from __future__ import annotations

import json
import re
import secrets

import pytest
from fastapi import FastAPI
from sqlalchemy import func, select, update

from fennox.catalogue.models.backups import Backup, Removal
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.people import Approval
from fennox.catalogue.models.runs import Run, SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.facts.run_orders import TakeOrder
from fennox.service.concerns import estate_watch
from fennox.service.http import rights
from fennox.service.machines.context import Context
from tests.service.contexts import (
    START,
    SetClock,
    add_backup,
    add_routine,
    add_store,
    add_system,
    sheet_of,
)
from tests.service.persons import Somebody, application, calling, somebody

HOLM = ["site=holm"]


@pytest.fixture
def app(context: Context) -> FastAPI:
    return application(context)


class Estate:
    """One system at Holm Island, one at Saltmere Quay; each with one of everything, under names of
    its own.
    """

    def __init__(self, context: Context) -> None:
        self.context = context
        self.ids: dict[str, dict[str, str]] = {}

    async def make(self) -> Estate:
        self.store = await add_store(self.context)
        self.routine = await add_routine(self.context, self.store)
        for name, site in (("holm-web", "holm"), ("quay-db", "quay")):
            self.ids[name] = await self._of(name, site)
        async with self.context.session() as session:
            await estate_watch.look(self.context, session)
        async with self.context.session() as session:
            for name, ids in self.ids.items():
                about = (
                    select(ConcernRow.key)
                    .where(ConcernRow.about == name)
                    .order_by(ConcernRow.key)
                    .limit(1)
                )
                ids["concern"] = (await session.execute(about)).scalar_one()
        return self

    async def _of(self, name: str, site: str) -> dict[str, str]:
        system = await add_system(self.context, name, site=site, labels=[f"label-of-{name}"])
        backup = await add_backup(
            self.context, system, self.store, START, 1, name=f"backup-of-{name}"
        )
        run, sheet = secrets.token_hex(16), secrets.token_hex(16)
        async with self.context.session() as session:
            login = (
                await session.execute(select(Login.id).where(Login.name == f"login-{name}"))
            ).scalar_one()
            session.add(
                Run(
                    id=run,
                    kind="take",
                    by=f"by-{name}",
                    state="done",
                    created=START,
                    ended=START,
                    started=START,
                    system_id=system,
                    store_id=self.store,
                    order=TakeOrder(),
                    fence=0,
                    attempt=0,
                )
            )
            session.add(
                SheetRow(
                    id=sheet,
                    system_id=system,
                    backup_id=backup,
                    target_login_id=login,
                    state="draft",
                    data=sheet_of(name, system, backup),
                    version=1,
                    created=START,
                    by=f"by-{name}",
                )
            )
            session.add(
                Removal(
                    store_id=self.store,
                    system_id=system,
                    system=name,
                    backup_id=secrets.token_hex(16),
                    name=f"removed-of-{name}",
                    time=START,
                    sequence=0,
                    size=1,
                    why="",
                    at=START,
                    run_id=run,
                )
            )
        return {"name": name, "backup": backup, "run": run, "sheet": sheet}

    def traces(self, name: str) -> list[str]:
        """What tells of a system."""
        return [
            name,
            *(value for key, value in self.ids[name].items() if key not in ("name", "sheet")),
        ]


def path_for(path: str, ids: dict[str, str]) -> str:
    """A path with the ids of one system in it."""
    return re.sub(
        r"\{([a-z_]+)\}", lambda match: ids.get(match[1], "nothing-here"), path
    ).removeprefix("/api/v1")


@pytest.mark.parametrize("by", ["person", pytest.param("token", marks=pytest.mark.long)])
async def test_nothing_outside_is_shown_by_any_operation(
    context: Context, app: FastAPI, clock: SetClock, by: str
) -> None:
    estate = await Estate(context).make()
    whole = await somebody(context, "harbour-admin")
    if by == "person":
        narrow = await somebody(context, "holm-admin", scope=HOLM)
    else:
        async with calling(app, whole) as client:
            made = (
                await client.post(
                    "/tokens", json={"name": "holm-job", "role": "administrator", "scope": HOLM}
                )
            ).json()
        narrow = Somebody("holm-job", whole.id, made["token"])
    shown_to_whole: set[str] = set()
    seen = 0
    for name, (method, path) in rights.operations(app).items():
        if method != "GET" or rights.TABLE[name] == "nobody":
            continue
        for about in ("holm-web", "quay-db"):
            url = path_for(path, estate.ids[about])
            async with calling(app, whole) as client:
                text = (await client.get(url)).text
                shown_to_whole |= {trace for trace in estate.traces("quay-db") if trace in text}
            async with calling(app, narrow) as client:
                answer = await client.get(url)
            asked = set(estate.ids["quay-db"].values()) if about == "quay-db" else set()
            leaked = [
                trace
                for trace in estate.traces("quay-db")
                if trace in answer.text and trace not in asked
            ]
            assert not leaked, f"{name} at {url}: {leaked} in {answer.text[:500]}"
            if about == "quay-db" and "{" in path:
                assert answer.status_code in (403, 404), f"{name} at {url}: {answer.status_code}"
            seen += "holm-web" in answer.text and answer.status_code == 200
    assert shown_to_whole == set(estate.traces("quay-db")), (
        "the whole estate sees all of it, so that this could fail"
    )
    assert seen >= 8, "what is within is shown"


async def test_nothing_outside_is_acted_on_by_any_operation(
    context: Context, app: FastAPI, clock: SetClock
) -> None:
    estate = await Estate(context).make()
    narrow = await somebody(context, "holm-admin", scope=HOLM)
    outside = estate.ids["quay-db"]
    bodies: dict[str, dict[str, object]] = {
        "take_backup": {"system": "quay-db"},
        "draft_restore": {"backup": outside["backup"], "purpose": "repair"},
        "compare_backups": {"system": "quay-db"},
        "compare_as_patch": {
            "before": estate.ids["holm-web"]["backup"],
            "after": outside["backup"],
        },
        "trace_value": {"system": "quay-db", "document": "/etc/hosts"},
    }
    onto = {
        "backup": estate.ids["holm-web"]["backup"],
        "purpose": "practise",
        "onto": "quay-db",
    }
    before = await everything(context)
    for name, (method, path) in rights.operations(app).items():
        if method == "GET" or rights.TABLE[name] == "nobody" or name in MINE:
            continue
        for body in [bodies.get(name, {}), *([onto] if name == "draft_restore" else [])]:
            async with calling(app, narrow) as client:
                answer = await client.request(method, path_for(path, outside), json=body)
            assert answer.status_code in (403, 404), (
                f"{name}: {answer.status_code} {answer.text[:300]}"
            )
        for headers in ({}, {"content-type": "text/plain"}, {"content-type": "application/x+json"}):
            async with calling(app, narrow) as client:
                content = json.dumps(bodies.get(name, {}))
                answer = await client.request(
                    method, path_for(path, outside), content=content, headers=headers
                )
            assert answer.status_code in (403, 404, 422), f"{name} {headers}: {answer.text[:300]}"
    assert await everything(context) == before


MINE = {
    "sign_out",
    "prove",
    "change_password",
    "end_session",
    "end_other_sessions",
    "add_token",
    "begin_totp",
    "confirm_totp",
    "remove_totp",
    "new_recovery_codes",
    "begin_passkey",
    "add_passkey",
    "remove_passkey",
    "prove_with_passkey",
    "grant_approval",
    "refuse_approval",
}
"""Operations about the person who calls."""


async def everything(context: Context) -> list[object]:
    async with context.session() as session:
        found: list[object] = []
        for table in (System, Backup, Run, SheetRow, ConcernRow, StoreRow):
            columns = table.__table__.columns
            found += [
                tuple(row)
                for row in (await session.execute(select(*columns).order_by(columns[0]))).all()
            ]
        return found


async def test_counts_are_of_what_is_within(
    context: Context, app: FastAPI, clock: SetClock
) -> None:
    await Estate(context).make()
    whole, narrow = (
        await somebody(context, "harbour-admin"),
        await somebody(context, "holm-eye", "reader", scope=HOLM),
    )
    async with context.session() as session:
        await estate_watch.look(context, session)
    async with calling(app, whole) as client:
        status = (await client.get("/status")).json()
        assert (status["systems"], status["backups"]) == (2, 2)
    async with calling(app, narrow) as client:
        status = (await client.get("/status")).json()
        assert (status["systems"], status["backups"], status["stores"], status["routines"]) == (
            1,
            1,
            0,
            0,
        )
        metrics = (await client.get("http://localhost/metrics")).text
        assert 'system="holm-web"' in metrics
        assert "quay-db" not in metrics
        assert 'fennox_runs{kind="take",state="done"} 1.0' in metrics


async def test_a_look_of_somebody_with_a_scope_ends_no_concern_of_others(
    context: Context, app: FastAPI, clock: SetClock
) -> None:
    """What is wrong is settled for the whole estate, whoever asks."""
    await Estate(context).make()
    narrow = await somebody(context, "holm-eye", "reader", scope=HOLM)
    async with calling(app, await somebody(context, "harbour-admin")) as client:
        await client.get("/status")
    async with context.session() as session:
        standing = select(ConcernRow.key).where(ConcernRow.ended.is_(None)).order_by(ConcernRow.key)
        before = (await session.execute(standing)).scalars().all()
    assert len(before) > 2
    async with calling(app, narrow) as client:
        for path in ("/status", "/concerns", "/systems", "http://localhost/metrics"):
            assert (await client.get(path)).status_code == 200
    async with context.session() as session:
        assert (await session.execute(standing)).scalars().all() == before


async def test_rules_about_other_systems_hold_for_those_who_do_not_see_them(
    context: Context, app: FastAPI, clock: SetClock
) -> None:
    """A backup is not written onto a machine that somebody cannot see."""
    estate = await Estate(context).make()
    narrow = await somebody(context, "holm-hand", "operator", scope=HOLM)
    async with context.session() as session:
        await session.execute(update(Login).values(proves_by="password"))
        other = (await session.execute(select(System).where(System.name == "quay-db"))).scalar_one()
    wanted = {
        "backup": estate.ids["holm-web"]["backup"],
        "purpose": "replace",
        "at": other.address,
        "key": other.key,
    }
    async with calling(app, narrow) as client:
        answer = await client.post("/restores", json=wanted)
    assert answer.status_code in (403, 409), answer.text


@pytest.mark.parametrize(
    "scope", [[], ["site=hollm"], ["everything"], ["site=holm", "label=misspelt"], [""]]
)
async def test_a_scope_that_names_nothing_is_refused(
    context: Context, app: FastAPI, scope: list[str]
) -> None:
    await Estate(context).make()
    who = await somebody(context, "harbour-admin")
    async with calling(app, who) as client:
        wanted = {
            "name": "holm-eye",
            "role": "reader",
            "password": "six anchors in the fog bank",
            "scope": scope,
        }
        assert (await client.post("/users", json=wanted)).status_code == 422
        assert (
            await client.post("/tokens", json={"name": "holm-job", "scope": scope})
        ).status_code == 422


async def test_a_token_reaches_no_more_than_its_person_also_when_that_becomes_less(
    context: Context, app: FastAPI
) -> None:
    estate = await Estate(context).make()
    boss, who = (
        await somebody(context, "harbour-admin"),
        await somebody(context, "mate", "operator"),
    )
    async with calling(app, who) as client:
        made = (
            await client.post(
                "/tokens",
                json={"name": "both", "role": "operator", "scope": ["site=holm", "site=quay"]},
            )
        ).json()
    token = Somebody("both", who.id, made["token"])
    async with calling(app, token) as client:
        assert len((await client.get("/systems")).json()["items"]) == 2
    async with calling(app, boss) as client:
        changed = await client.patch("/users/mate", json={"scope": HOLM, "role": "reader"})
        assert changed.status_code == 200, changed.text
    async with calling(app, token) as client:
        assert [one["name"] for one in (await client.get("/systems")).json()["items"]] == [
            "holm-web"
        ]
        take = await client.post("/backups", json={"system": "holm-web"})
        assert take.status_code == 403
        assert (await client.get(f"/backups/{estate.ids['quay-db']['backup']}")).status_code == 404


async def test_an_approval_is_shown_within_its_systems_scope_only(
    context: Context, app: FastAPI
) -> None:
    estate = await Estate(context).make()
    boss = await somebody(context, "harbour-admin")
    await somebody(context, "night-watch")
    mate = await somebody(context, "mate", "operator")
    holm = await somebody(context, "holm-hand", "operator", scope=HOLM)
    async with calling(app, boss) as client:
        await client.put("/approval-acts", json={"acts": ["restore"]})
    approvals = {}
    async with calling(app, mate) as client:
        for name in ("holm-web", "quay-db"):
            asked = await client.post(f"/restores/{estate.ids[name]['sheet']}/start")
            approvals[name] = asked.json()["approval"]
    async with calling(app, holm) as client:
        assert [one["id"] for one in (await client.get("/approvals")).json()["items"]] == [
            approvals["holm-web"]
        ]
        assert (await client.post(f"/approvals/{approvals['quay-db']}/grant")).status_code == 404
        assert (await client.post(f"/approvals/{approvals['holm-web']}/grant")).status_code == 200
    async with context.session() as session:
        granted = select(func.count()).select_from(Approval).where(Approval.state == "granted")
        assert (await session.execute(granted)).scalar_one() == 1
