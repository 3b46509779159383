"""People: their passwords, sessions, tokens and second factors, as they and their administrators
use them.
"""

from __future__ import annotations

import asyncio
from datetime import timedelta

import pyotp
import pytest
from fastapi import FastAPI
from sqlalchemy import delete, func, select

from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.people import Audit, RecoveryCode, SignInFailure, Token, User
from fennox.service.access_control import local_recovery, second_factors
from fennox.service.concerns import estate_watch
from fennox.service.foundation.clock import real_now
from fennox.service.machines.context import Context
from tests.service.persons import Somebody, application, calling, somebody, user_row
from tests.service.running import PASSWORD

NEW = "six anchors in the fog bank"


@pytest.fixture
def app(context: Context) -> FastAPI:
    return application(context)


async def sign_in(
    app: FastAPI, name: str, password: str = PASSWORD, code: str | None = None
) -> tuple[int, dict[str, object]]:
    wanted = {"user": name, "password": password, "token": True} | ({"code": code} if code else {})
    async with calling(app) as client:
        answer = await client.post("/session", json=wanted)
    return answer.status_code, answer.json()


async def test_the_first_password_must_be_changed_before_anything_else(
    context: Context, app: FastAPI
) -> None:
    async with calling(app, await somebody(context, "harbour-admin")) as boss:
        wanted = {"name": "deckhand", "role": "administrator", "password": PASSWORD}
        assert (await boss.post("/users", json=wanted)).json()["must_change"]
    signed = (await sign_in(app, "deckhand"))[1]
    async with calling(app, Somebody("deckhand", "", str(signed["token"]))) as client:
        for path in ("/status", "/systems", "/users", "/sessions"):
            assert (await client.get(path)).json()["type"] == "urn:fennox:password-change-needed"
        assert (await client.get("/session")).json()["must_change"]
        same = await client.post("/session/password", json={"old": PASSWORD, "new": PASSWORD})
        weak = await client.post(
            "/session/password", json={"old": PASSWORD, "new": "Password2024!!"}
        )
        wrong = await client.post("/session/password", json={"old": "made up", "new": NEW})
        assert (same.status_code, weak.status_code, wrong.status_code) == (422, 422, 401)
        assert not (
            await client.post("/session/password", json={"old": PASSWORD, "new": NEW})
        ).json()["must_change"]
        assert (await client.get("/systems")).status_code == 200


async def test_a_changed_password_ends_every_other_session_and_no_token(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "harbour-admin")
    other = Somebody(
        "harbour-admin", who.id, str((await sign_in(app, "harbour-admin"))[1]["token"])
    )
    async with calling(app, who) as client:
        made = (await client.post("/tokens", json={"name": "night-job", "role": "reader"})).json()
        assert (
            await client.post("/session/password", json={"old": PASSWORD, "new": NEW})
        ).status_code == 200
        assert (await client.get("/status")).status_code == 200, "the one that changed it goes on"
    async with calling(app, other) as client:
        assert (await client.get("/status")).status_code == 401
    async with calling(app, Somebody("night-job", who.id, made["token"])) as client:
        assert (await client.get("/status")).status_code == 200
    assert (await sign_in(app, "harbour-admin"))[0] == 401
    assert (await sign_in(app, "harbour-admin", NEW))[0] == 200


async def test_a_role_taken_away_counts_at_once(context: Context, app: FastAPI) -> None:
    boss, who = (
        await somebody(context, "harbour-admin"),
        await somebody(context, "mate", "operator"),
    )
    async with calling(app, boss) as client:
        changed = await client.patch("/users/mate", json={"role": "reader"})
        assert changed.json()["role"] == "reader"
    async with calling(app, who) as client:
        assert (await client.get("/status")).status_code == 401, (
            "the sessions of the role before have ended"
        )
    async with context.session() as session:
        entry = (await session.execute(select(Audit).where(Audit.action == "changed"))).scalar_one()
    assert entry.details["role"] == "operator → reader", "what it was is told as well"


async def test_rights_go_apart_from_roles(context: Context, app: FastAPI) -> None:
    boss = await somebody(context, "harbour-admin")
    blind = await somebody(context, "mate", "operator", rights=[])
    export = await somebody(context, "keeper", "reader", rights=["export"])
    compared = {"before": "nothing-here", "after": "nothing-here"}
    async with calling(app, blind) as client:
        refused = await client.post("/comparisons", json=compared)
        assert refused.status_code == 403
        assert "needs the right `content`" in refused.json()["detail"]
    async with calling(app, export) as client:
        assert (await client.post("/backups/nothing-here/export", json={})).status_code == 404, (
            "they may, if it were there"
        )
        assert (await client.post("/comparisons", json=compared)).status_code == 403
    async with calling(app, boss) as client:
        await client.patch("/users/mate", json={"usual_rights": True})
        both = await client.patch("/users/mate", json={"usual_rights": True, "rights": []})
        assert both.status_code == 422
    async with calling(app, blind) as client:
        assert (await client.post("/comparisons", json=compared)).status_code == 404


async def test_an_auditor_sees_who_did_what_and_does_nothing(
    context: Context, app: FastAPI
) -> None:
    async with calling(app, await somebody(context, "auditor", "auditor")) as client:
        for path in ("/audit", "/users", "/sessions?everybody=true", "/status"):
            assert (await client.get(path)).status_code == 200, path
        assert (await client.post("/backups", json={"system": "web-9"})).status_code == 403
        assert (await client.post("/users", json={})).status_code == 403


async def test_the_last_administrator_of_the_whole_estate_stays(
    context: Context, app: FastAPI
) -> None:
    boss = await somebody(context, "harbour-admin")
    async with calling(app, boss) as client:
        for body in ({"role": "reader"}, {"scope": ["all"]}):
            kept = await client.patch("/users/harbour-admin", json=body)
            assert kept.status_code in (409, 422), kept.text
        assert (await client.delete("/users/harbour-admin")).status_code == 409
    other = await somebody(context, "night-watch")
    async with calling(app, boss) as one, calling(app, other) as two:
        answers = await asyncio.gather(
            one.delete("/users/night-watch"), two.delete("/users/harbour-admin")
        )
    assert sorted(answer.status_code for answer in answers)[-1] in (401, 409), (
        "of two that come together one stays"
    )
    async with context.session() as session:
        assert (await session.execute(select(func.count()).select_from(User))).scalar_one() == 1


async def test_tokens_are_named_narrower_than_their_person_and_end(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "mate", "operator")
    async with calling(app, who) as client:
        made = (
            await client.post("/tokens", json={"name": "night-job", "role": "reader", "days": 3})
        ).json()
        token = Somebody("night-job", who.id, made["token"])
        assert made["made"]["role"] == "reader"
        assert (await client.post("/tokens", json={"name": "night-job"})).status_code == 409
        assert (
            await client.post("/tokens", json={"name": "more", "role": "administrator"})
        ).status_code == 422
        assert (
            await client.post("/tokens", json={"name": "more", "rights": ["export"]})
        ).status_code == 422
        assert (await client.post("/tokens", json={"name": "more", "days": 0})).status_code == 422
    async with calling(app, token) as client:
        assert (await client.get("/status")).status_code == 200
        assert (await client.post("/backups", json={"system": "web-9"})).status_code == 403, (
            "it is a reader's"
        )
    async with calling(app, who) as client:
        [listed] = [
            one
            for one in (await client.get("/sessions")).json()["items"]
            if one["name"] == "night-job"
        ]
        assert listed["last_used"] is not None
        assert "token" not in listed
    context.wall = lambda: real_now() + timedelta(days=4)
    async with calling(app, token) as client:
        assert (await client.get("/status")).status_code == 401


async def test_a_token_for_metrics_reads_nothing_else(context: Context, app: FastAPI) -> None:
    who = await somebody(context, "harbour-admin")
    async with calling(app, who) as client:
        made = (await client.post("/tokens", json={"name": "scraper", "kind": "metrics"})).json()
    async with calling(app, Somebody("scraper", who.id, made["token"])) as client:
        assert (await client.get("http://localhost/metrics")).status_code == 200
        for path in ("/status", "/systems", "/audit"):
            assert (await client.get(path)).status_code == 403


async def test_sessions_are_listed_and_ended_each_ones_own(context: Context, app: FastAPI) -> None:
    boss, who = (
        await somebody(context, "harbour-admin"),
        await somebody(context, "mate", "operator"),
    )
    second = Somebody("mate", who.id, str((await sign_in(app, "mate"))[1]["token"]))
    async with calling(app, who) as client:
        mine = (await client.get("/sessions")).json()["items"]
        assert [one["current"] for one in mine].count(True) == 1
        assert {one["address"] for one in mine} == {"127.0.0.1"}
        assert (await client.get("/sessions", params={"everybody": True})).status_code == 403
        async with context.session() as session:
            theirs = (
                await session.execute(select(Token.id).where(Token.user_id == boss.id))
            ).scalar_one()
        assert (await client.delete(f"/sessions/{theirs}")).status_code == 404
        other = next(one["id"] for one in mine if not one["current"])
        assert (await client.delete(f"/sessions/{other}")).status_code == 204
    async with calling(app, second) as client:
        assert (await client.get("/status")).status_code == 401
    async with calling(app, boss) as client:
        everybodys = (await client.get("/sessions", params={"everybody": True})).json()["items"]
        assert {one["user"] for one in everybodys} == {"harbour-admin", "mate"}
        [last] = [one["id"] for one in everybodys if one["user"] == "mate"]
        assert (await client.delete(f"/sessions/{last}")).status_code == 204
    async with calling(app, who) as client:
        assert (await client.get("/status")).status_code == 401


async def with_authenticator(
    context: Context, app: FastAPI, who: Somebody
) -> tuple[pyotp.TOTP, list[str]]:
    async with calling(app, who) as client:
        begun = (await client.post("/authenticator")).json()
        totp = pyotp.TOTP(begun["secret"])
        for made_up in ("000000", "fæ rø", "\U0001f980"):
            wrong = await client.post("/authenticator/confirm", json={"code": made_up})
            assert wrong.status_code == 422
        codes = (
            await client.post("/authenticator/confirm", json={"code": code_at(totp, context)})
        ).json()["codes"]
    return totp, codes


def code_at(totp: pyotp.TOTP, context: Context, steps: int = 0) -> str:
    return totp.at(context.wall() + timedelta(seconds=30 * steps))


async def test_an_authenticator_is_asked_for_and_each_code_counts_once(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "harbour-admin")
    moment = real_now()
    context.wall = lambda: moment
    totp, codes = await with_authenticator(context, app, who)
    assert len(codes) == 10
    status, problem = await sign_in(app, "harbour-admin")
    assert status == 401
    assert problem["type"] == "urn:fennox:second-factor-needed"
    assert "authenticator" in str(problem["ways"])
    used = code_at(totp, context)
    assert (await sign_in(app, "harbour-admin", code=used))[0] == 401, (
        "it has set the authenticator up already"
    )
    moment += timedelta(seconds=60)
    fresh = code_at(totp, context)
    together = await asyncio.gather(*(sign_in(app, "harbour-admin", code=fresh) for _ in range(4)))
    assert sorted(status for status, _ in together) == [200, 401, 401, 401]
    async with context.session() as session:
        row = await session.get_one(User, who.id)
        assert totp.secret.encode() not in (row.sealed_totp or b""), "the database does not tell it"


async def test_wrong_codes_are_limited_as_wrong_passwords_are(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "harbour-admin")
    await with_authenticator(context, app, who)
    codes = [(await sign_in(app, "harbour-admin", code=f"{n:06}"))[0] for n in range(9)]
    assert codes == [401] * 8 + [429]


async def test_a_recovery_code_signs_in_once_and_the_authenticator_can_be_removed(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "harbour-admin")
    _, codes = await with_authenticator(context, app, who)
    assert (await sign_in(app, "harbour-admin", code=codes[0].upper()))[0] == 200
    assert (await sign_in(app, "harbour-admin", code=codes[0]))[0] == 401
    async with calling(app, who) as client:
        anew = (await client.post("/recovery-codes")).json()["codes"]
        assert (await sign_in(app, "harbour-admin", code=codes[1]))[0] == 401, (
            "those from before count no more"
        )
        assert (await sign_in(app, "harbour-admin", code=anew[1]))[0] == 200
        assert (await client.delete("/authenticator")).status_code == 204
    assert (await sign_in(app, "harbour-admin"))[0] == 200
    async with context.session() as session:
        assert (
            await session.execute(select(func.count()).select_from(RecoveryCode))
        ).scalar_one() == 0


async def test_an_administrator_who_lost_everything_is_let_in_from_the_host(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "harbour-admin")
    await with_authenticator(context, app, who)
    for n in range(9):
        await sign_in(app, "harbour-admin", "made up", f"{n:06}")
    assert (await sign_in(app, "harbour-admin", NEW))[0] == 429
    done = await local_recovery.recover(
        context, "harbour-admin", NEW, administrator=False, no_approvals=True
    )
    assert "approvals switched off" in done
    async with (
        context.session() as session
    ):  # the address is throttled as well; it is another machine that signs in
        await session.execute(delete(SignInFailure))
    assert (await sign_in(app, "harbour-admin", NEW))[0] == 200
    assert (await sign_in(app, "harbour-admin"))[0] == 401
    async with calling(app, who) as client:
        assert (await client.get("/status")).status_code == 401, (
            "whoever was signed in is not any more"
        )
    assert (await user_row(context, who)).sealed_totp is None


async def test_an_account_whose_passwords_somebody_tries_is_a_concern_and_known_tokens_pass(
    context: Context, app: FastAPI
) -> None:
    who = await somebody(context, "harbour-admin")
    for _ in range(8):
        await sign_in(app, "harbour-admin", "made up")
    async with context.session() as session:
        await estate_watch.look(context, session)
        found = (
            await session.execute(select(ConcernRow).where(ConcernRow.code == "account-throttled"))
        ).scalar_one()
    assert "passwords of harbour-admin" in found.text
    async with calling(app, who) as client:
        assert (await client.get("/status")).status_code == 200
        assert (await client.get("/audit", params={"about": "harbour-admin"})).json()["items"][0][
            "action"
        ] == ("failed to sign in")


def test_recovery_codes_are_long_enough_and_none_is_like_another() -> None:
    made = {second_factors._group() for _ in range(2000)}
    assert len(made) > 1900
    assert all(len(one) == 4 for one in made)
