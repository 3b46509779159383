"""Grave acts: a fresh proof of who one is, and a second person where that is asked for."""

from __future__ import annotations

import asyncio
import json
import re
from datetime import timedelta

import pytest
from fastapi import FastAPI
from sqlalchemy import func, select, update

from fennox.catalogue.models.people import Approval, Audit, Token, User
from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.systems import KindRow, Login
from fennox.service.http import rights
from fennox.service.machines.context import Context
from fennox.service.people import grave_acts
from tests.service.contexts import SetClock, add_store, add_system, sheet_of
from tests.service.persons import Somebody, application, calling, somebody, unproved
from tests.service.running import PASSWORD

LOGIN = {"name": "quay-root", "account": "root", "password": "made up for a test"}


@pytest.fixture
def app(context: Context) -> FastAPI:
    return application(context)


async def count(context: Context, table: type[object]) -> int:
    async with context.session() as session:
        return int((await session.execute(select(func.count()).select_from(table))).scalar_one())


async def add_login(app: FastAPI, who: Somebody, **changed: str) -> tuple[int, dict[str, object]]:
    async with calling(app, who) as client:
        answer = await client.post("/logins", json={**LOGIN, **changed})
    return answer.status_code, answer.json()


async def switch_on(app: FastAPI, who: Somebody, *acts: str) -> None:
    async with calling(app, who) as client:
        answer = await client.put("/approval-acts", json={"acts": list(acts)})
    assert answer.status_code == 200, answer.text


async def test_every_grave_act_is_refused_without_a_fresh_proof(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "harbour-admin", proved=False)
    operations = rights.operations(app)
    for name, act in grave_acts.TABLE.items():
        method, path = operations[name]
        url = re.sub(r"\{[a-z_]+\}", "nothing-here", path).removeprefix("/api/v1")
        body = dict.fromkeys(act.fields, "nothing-here")
        async with calling(app, who) as client:
            answer = await client.request(method, url, json=body if method != "DELETE" else None)
        assert answer.status_code == 403, f"{name}: {answer.text}"
        assert answer.json()["type"] == "urn:fennox:proof-needed", name


@pytest.mark.parametrize("away", [timedelta(minutes=-11), timedelta(minutes=1)])
async def test_a_proof_counts_for_ten_minutes_and_none_that_is_dated_in_the_future(
    context: Context, app: FastAPI, away: timedelta
) -> None:
    """A wrong clock must not make a proof last."""
    who = await somebody(context, "harbour-admin")
    assert (await add_login(app, who))[0] == 201
    async with context.session() as session:
        await session.execute(update(Token).values(proved=func.now() + away))
    status, problem = await add_login(app, who, name="holm-root")
    assert (status, problem["type"]) == (403, "urn:fennox:proof-needed")
    assert await count(context, Login) == 1


async def test_whoever_proves_anew_goes_on(context: Context, app: FastAPI) -> None:
    who = await somebody(context, "harbour-admin", proved=False)
    async with calling(app, who) as client:
        wrong = await client.post("/session/proof", json={"password": "made up"})
        assert wrong.status_code == 401
        assert (await client.post("/logins", json=LOGIN)).status_code == 403
        assert (await client.post("/session/proof", json={"password": PASSWORD})).json()["proved"]
        assert (await client.post("/logins", json=LOGIN)).status_code == 201


async def test_proofs_that_fail_are_limited_as_sign_ins_are(context: Context, app: FastAPI) -> None:
    who = await somebody(context, "harbour-admin", proved=False)
    async with calling(app, who) as client:
        codes = [
            (await client.post("/session/proof", json={"password": "made up"})).status_code
            for _ in range(9)
        ]
    assert codes == [401] * 8 + [429]


async def test_a_grave_act_waits_for_a_second_person_and_counts_once(
    context: Context, app: FastAPI
) -> None:
    one, two = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    await switch_on(app, one, "logins")
    status, problem = await add_login(app, one)
    assert (status, problem["type"]) == (403, "urn:fennox:approval-needed")
    again = (await add_login(app, one))[1]
    assert again["approval"] == problem["approval"], "it is asked once, however often it is tried"
    async with calling(app, two) as client:
        [waiting] = (await client.get("/approvals")).json()["items"]
        assert (waiting["by"], waiting["act"], waiting["operation"]) == (
            "harbour-admin",
            "logins",
            "add_login",
        )
        assert {"name": "name", "value": "quay-root"} in waiting["shown"]
        assert "made up for a test" not in str(waiting), "no secret is shown"
        granted = await client.post(
            f"/approvals/{waiting['id'][:12]}/grant", json={"because": "as we spoke"}
        )
        assert granted.json()["state"] == "granted"
    assert await count(context, Login) == 0, "a grant does nothing by itself"
    assert (await add_login(app, one))[0] == 201
    async with context.session() as session:
        added = (await session.execute(select(Audit).where(Audit.action == "added"))).scalar_one()
    assert added.details["approval"] == problem["approval"][:12], "the audit tells who let it be"  # type: ignore[index]
    async with calling(app, one) as client:
        await client.delete("/logins/quay-root")
    assert (await add_login(app, one))[0] == 403, "it is spent"


async def test_nobody_approves_their_own_nor_twice_nor_late(context: Context, app: FastAPI) -> None:
    one, two = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    await switch_on(app, one, "logins")
    approval = (await add_login(app, one))[1]["approval"]
    async with calling(app, one) as client:
        own = await client.post(f"/approvals/{approval}/grant")
    assert own.status_code == 403
    assert "yourself" in own.json()["detail"]
    async with calling(app, two) as client:
        async with context.session() as session:
            await session.execute(update(Approval).values(until=Approval.at))
        late = await client.post(f"/approvals/{approval}/grant")
        assert late.status_code == 409
        assert "could be approved until" in late.json()["detail"]
        async with context.session() as session:
            await session.execute(update(Approval).values(until=Approval.at + timedelta(hours=1)))
        assert (
            await client.post(f"/approvals/{approval}/refuse", json={"because": "not tonight"})
        ).status_code == 200
        twice = await client.post(f"/approvals/{approval}/grant")
        assert twice.status_code == 409
        assert "refused already by night-watch" in twice.json()["detail"]
    status, problem = await add_login(app, one)
    assert (status, problem["type"]) == (403, "urn:fennox:not-allowed")
    assert "not tonight" in str(problem["detail"])
    assert await count(context, Login) == 0


async def test_an_approval_is_for_exactly_what_was_shown_and_for_whoever_asked(
    context: Context, app: FastAPI
) -> None:
    one, two = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    await switch_on(app, one, "logins")
    approval = (await add_login(app, one))[1]["approval"]
    async with calling(app, two) as client:
        await client.post(f"/approvals/{approval}/grant")
    for changed in ({"password": "another secret"}, {"account": "toor"}, {"name": "quay-root-2"}):
        assert (await add_login(app, one, **changed))[0] == 403, changed
    assert (await add_login(app, two))[0] == 403, "it was granted to somebody else"
    async with context.session() as session:
        await session.execute(
            update(Approval).where(Approval.id == approval).values(until=func.now())
        )
    assert (await add_login(app, one))[0] == 403, "it has ended"
    assert await count(context, Login) == 0


async def test_a_body_that_does_not_say_what_it_is_passes_no_rule(
    context: Context, app: FastAPI
) -> None:
    """What a route reads, the rules before it read: a grant lets no other request through."""
    one, two = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    await switch_on(app, one, "logins")
    async with calling(app, one) as client, calling(app, two) as second:
        for kind in (None, "", "text/plain", "application/x+json"):
            headers = {"content-type": kind} if kind is not None else {}
            asked = await client.post("/logins", content=json.dumps(LOGIN), headers=headers)
            if "approval" in asked.json():
                await second.post(f"/approvals/{asked.json()['approval']}/grant")
            other = json.dumps({**LOGIN, "name": "another", "account": "toor"})
            assert (await client.post("/logins", content=other, headers=headers)).status_code in (
                403,
                422,
            ), headers
    async with context.session() as session:
        names = (await session.execute(select(Login.name))).scalars().all()
    assert "another" not in names


async def test_of_two_that_come_together_one_passes_and_an_act_that_fails_spends_nothing(
    context: Context, app: FastAPI
) -> None:
    one, two = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    kind = {"text": "name = 'broken"}
    await switch_on(app, one, "kinds")
    async with calling(app, one) as client, calling(app, two) as second:
        approval = (await client.post("/kinds", json=kind)).json()["approval"]
        await second.post(f"/approvals/{approval}/grant")
        assert (await client.post("/kinds", json=kind)).status_code == 422
        assert (await second.get(f"/approvals/{approval}")).json()["state"] == "granted", (
            "nothing was done"
        )
        await asyncio.gather(*(client.post("/kinds", json=kind) for _ in range(5)))
        async with context.session() as session:
            await session.execute(update(Approval).values(state="used"))
        assert (await client.post("/kinds", json=kind)).status_code == 403
    assert await count(context, KindRow) == 0


async def test_approvals_need_two_people_and_switching_them_off_needs_one_more(
    context: Context, app: FastAPI
) -> None:
    one = await somebody(context, "harbour-admin")
    async with calling(app, one) as client:
        alone = await client.put("/approval-acts", json={"acts": ["people"]})
    assert alone.status_code == 409
    assert "Fewer than two" in alone.json()["detail"]
    two = await somebody(context, "night-watch")
    await switch_on(app, one, "people")
    async with calling(app, one) as client, calling(app, two) as second:
        off = await client.put("/approval-acts", json={"acts": []})
        assert off.json()["type"] == "urn:fennox:approval-needed"
        gone = await client.delete("/users/night-watch")
        assert gone.json()["type"] == "urn:fennox:approval-needed"
        await second.post(f"/approvals/{gone.json()['approval']}/grant")
        assert "Fewer than two" in (await client.delete("/users/night-watch")).json()["detail"]
        await second.post(f"/approvals/{off.json()['approval']}/grant")
        assert (await client.put("/approval-acts", json={"acts": []})).status_code == 200
        assert (await client.delete("/users/night-watch")).status_code == 204


async def test_whoever_has_a_second_person_for_anything_needs_one_to_switch_it_off_or_to_add_people(
    context: Context, app: FastAPI
) -> None:
    """An administrator switched it off alone, or would have added somebody who approves."""
    one, _ = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    await switch_on(app, one, "logins")
    puppet = {"name": "puppet", "role": "administrator", "password": "six anchors in the fog bank"}
    async with calling(app, one) as client:
        assert (await client.get("/approval-acts")).json()["acts"] == ["logins", "people"]
        for answer in (
            await client.put("/approval-acts", json={"acts": []}),
            await client.put("/approval-acts", json={"acts": ["kinds"]}),
            await client.post("/users", json=puppet),
            await client.patch(
                "/users/night-watch", json={"password": "six anchors in the fog bank"}
            ),
        ):
            assert answer.json()["type"] == "urn:fennox:approval-needed", answer.text
    assert await count(context, User) == 2


async def test_who_may_not_do_it_cannot_approve_it_nor_see_it(
    context: Context, app: FastAPI
) -> None:
    one, _ = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    deckhand = await somebody(context, "deckhand", "operator")
    await switch_on(app, one, "logins")
    approval = (await add_login(app, one))[1]["approval"]
    async with calling(app, deckhand) as client:
        assert (await client.get("/approvals")).json()["items"] == []
        assert (await client.get(f"/approvals/{approval}")).status_code == 404
        assert (await client.post(f"/approvals/{approval}/grant")).status_code == 404


async def a_sheet(context: Context, system: str) -> str:
    async with context.session() as session:
        login = (await session.execute(select(Login.id).limit(1))).scalar_one()
        session.add(
            SheetRow(
                id="ab" * 16,
                system_id=system,
                backup_id="b" * 32,
                target_login_id=login,
                state="draft",
                data=sheet_of("web-9", system, "b" * 32),
                version=1,
                created=context.now(),
                by="deckhand",
            )
        )
    return "ab" * 16


async def test_a_restore_is_approved_as_its_sheet_stood(
    context: Context, app: FastAPI, clock: SetClock
) -> None:
    await add_store(context)
    system = await add_system(context, "web-9")
    sheet = await a_sheet(context, system)
    one, _ = await somebody(context, "harbour-admin"), await somebody(context, "night-watch")
    deckhand, mate = (
        await somebody(context, "deckhand", "operator"),
        await somebody(context, "mate", "operator"),
    )
    await switch_on(app, one, "restore")
    async with calling(app, deckhand) as client, calling(app, mate) as second:
        asked = await client.post(f"/restores/{sheet}/start")
        assert asked.json()["type"] == "urn:fennox:approval-needed"
        shown = (await second.get(f"/approvals/{asked.json()['approval']}")).json()
        assert shown["sheet"] == sheet, "whoever approves can read all of it"
        await second.post(f"/approvals/{shown['id']}/grant")
        async with context.session() as session:
            other = sheet_of("web-9", "s" * 32, "b" * 32, version=2)
            await session.execute(update(SheetRow).values(data=other, version=2))
        changed = await client.post(f"/restores/{sheet}/start")
    assert changed.json()["type"] == "urn:fennox:approval-needed", "the sheet is another one now"
    assert changed.json()["approval"] != shown["id"]


async def test_a_token_of_a_program_does_no_grave_act(context: Context, app: FastAPI) -> None:
    who = await somebody(context, "harbour-admin")
    async with calling(app, who) as client:
        made = (
            await client.post("/tokens", json={"name": "night-job", "role": "administrator"})
        ).json()
    program = Somebody("night-job", who.id, made["token"])
    status, problem = await add_login(app, program)
    assert (status, problem["type"]) == (403, "urn:fennox:proof-needed")
    async with calling(app, program) as client:
        await client.post("/session/proof", json={"password": PASSWORD})
    async with context.session() as session:
        assert (await session.execute(select(func.count()).select_from(User))).scalar_one() == 1


async def test_refusals_are_in_the_audit(context: Context, app: FastAPI) -> None:
    deckhand = await somebody(context, "deckhand", "operator")
    await unproved(context, deckhand.secret)
    async with calling(app, deckhand) as client:
        await client.delete("/systems/nothing-here/remove")
        await client.delete("/logins/quay-root")
    async with context.session() as session:
        [entry] = (await session.execute(select(Audit))).scalars()
    assert (entry.by, entry.action, entry.name) == ("deckhand", "was refused", "remove_login")
    assert "needs an administrator" in entry.details["because"]
