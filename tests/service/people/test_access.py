"""Who may do what: every route against the table of roles, sign-in limits, cookies, and plain HTTP
off loopback.
"""

from __future__ import annotations

import re
from collections.abc import AsyncIterator
from datetime import timedelta
from pathlib import Path
from urllib.parse import quote

import httpx
import pytest
from fastapi import FastAPI

from fennox.catalogue.models.people import User
from fennox.core.errors import MendSettings
from fennox.service.foundation import key_file
from fennox.service.foundation.clock import real_now
from fennox.service.foundation.settings import Settings
from fennox.service.http import access, rights
from fennox.service.machines.context import Context, open_context
from fennox.service.people import first_administrator, passwords, tokens
from fennox.service.people.persons import covered, rights_of
from fennox.service.people.tokens import Origin
from fennox.service.processes import wiring
from tests.service.persons import application

PASSWORD = "four quiet boats at dawn"
ROLES = ("reader", "auditor", "operator", "administrator")


@pytest.fixture
async def context(database: str, tmp_path: Path) -> AsyncIterator[Context]:
    settings = Settings(database=database, state=tmp_path / "state", weak_slots=True)
    made = await open_context(settings, real_now, key_file.load(settings.state), simulated=False)
    yield made
    await made.engine.dispose()


@pytest.fixture
def app(context: Context) -> FastAPI:
    return application(context)


def browser(app: FastAPI, **headers: str) -> httpx.AsyncClient:
    return httpx.AsyncClient(
        transport=httpx.ASGITransport(app, raise_app_exceptions=False),
        base_url="http://localhost",
        headers=headers,
    )


async def make_user(context: Context, name: str, role: str) -> str:
    password_hash = await passwords.hash_password(PASSWORD, name)
    async with context.session() as session:
        user = User(id=name, name=name, role=role, password_hash=password_hash, created=real_now())
        session.add(user)
        await session.flush()
        token, _ = await tokens.begin(
            session, user, "client", real_now(), Origin("127.0.0.1", "test")
        )
    return token


def may(role: str | None, operation: str) -> bool:
    needed = rights.TABLE[operation]
    if needed == "nobody" or role is None:
        return needed == "nobody"
    right = rights.RIGHTS.get(operation)
    return needed in covered(role) and (right is None or right in rights_of(role, None))  # type: ignore[arg-type]


async def test_every_operation_holds_against_the_table_of_roles(
    context: Context, app: FastAPI
) -> None:
    secrets_of = {role: await make_user(context, role, role) for role in ROLES}
    operations = rights.operations(app)
    assert len(operations) > 40
    for name, (method, path) in operations.items():
        url = re.sub(r"\{[a-z]+\}", "nothing-here", path)
        for role in (None, *ROLES):
            if role is not None and name in ("sign_out",):
                continue  # it would sign the role out for the rest
            headers = {"authorization": f"Bearer {secrets_of[role]}"} if role else {}
            async with browser(app, **headers) as client:
                answer = await client.request(
                    method, url, json={} if method in ("POST", "PATCH") else None
                )
            refused = answer.status_code in (401, 403)
            assert refused == (not may(role, name)), (
                f"{name} as {role}: {answer.status_code} {answer.text[:200]}"
            )
            assert answer.status_code != 500, f"{name} as {role}: {answer.text}"
            if refused:
                assert answer.headers["content-type"] == "application/problem+json"


async def test_a_cookie_changes_nothing_without_the_header_of_the_console(
    context: Context, app: FastAPI
) -> None:
    await make_user(context, "harbour-admin", "administrator")
    async with browser(app) as client:
        answer = await client.post(
            "/api/v1/session", json={"user": "harbour-admin", "password": PASSWORD}
        )
        cookie = answer.headers["set-cookie"]
        assert "HttpOnly" in cookie
        assert "SameSite=strict" in cookie
        assert answer.json()["token"] is None
        assert (await client.get("/api/v1/session")).json()["user"] == "harbour-admin"
        login = {"name": "quay", "account": "root", "password": "x"}
        refused = await client.post("/api/v1/logins", json=login)
        assert refused.status_code == 403
        made = await client.post("/api/v1/logins", json=login, headers={access.CONSOLE_HEADER: "1"})
        assert made.status_code == 201
        await client.delete("/api/v1/session", headers={access.CONSOLE_HEADER: "1"})
        assert (await client.get("/api/v1/session")).status_code == 401


async def test_a_client_token_is_no_cookie_and_a_cookie_no_token(
    context: Context, app: FastAPI
) -> None:
    token = await make_user(context, "harbour-admin", "administrator")
    async with browser(app) as client:
        client.cookies.set(access.COOKIE, token)
        assert (await client.get("/api/v1/session")).status_code == 401


async def test_sign_in_attempts_are_limited_and_say_nothing_about_users(
    context: Context, app: FastAPI
) -> None:
    await make_user(context, "harbour-admin", "administrator")
    async with browser(app) as client:
        answers = [
            await client.post("/api/v1/session", json={"user": user, "password": "wrong"})
            for user in ("harbour-admin", "nobody-such") * 5
        ]
        assert answers[0].json()["detail"] == answers[1].json()["detail"]
        assert answers[-1].status_code == 429
        right = await client.post(
            "/api/v1/session", json={"user": "harbour-admin", "password": PASSWORD}
        )
        assert right.status_code == 429


async def test_a_token_ends(context: Context, app: FastAPI) -> None:
    token = await make_user(context, "harbour-admin", "administrator")
    context.wall = lambda: real_now() + timedelta(days=31)
    async with browser(app, authorization=f"Bearer {token}") as client:
        assert (await client.get("/api/v1/session")).status_code == 401


async def test_the_setup_code_works_once_and_only_before_there_is_a_user(
    context: Context, app: FastAPI
) -> None:
    async with context.session() as session:
        code = await first_administrator.new_code(session)
    async with browser(app) as client:
        weak = await client.post(
            "/api/v1/first-user", json={"code": code, "user": "harbour-admin", "password": "boat"}
        )
        assert weak.status_code == 422
        assert "too weak" in weak.json()["detail"]
        wanted = {"code": code, "user": "harbour-admin", "password": PASSWORD}
        assert (await client.post("/api/v1/first-user", json=wanted)).status_code == 201
        assert (
            await client.post("/api/v1/first-user", json={**wanted, "user": "second"})
        ).status_code == 422
    async with context.session() as session:
        assert await first_administrator.new_code(session) is None


async def test_answers_carry_the_headers_that_keep_a_browser_safe(app: FastAPI) -> None:
    async with browser(app) as client:
        answer = await client.get("/healthz")
    assert "default-src 'self'" in answer.headers["content-security-policy"]
    assert answer.headers["x-content-type-options"] == "nosniff"


@pytest.mark.parametrize(
    "hostile", ["\0", "a\0b", "\ud7ff", "'; drop table runs; --", "%", "_" * 12, "9" * 400]
)
async def test_hostile_text_is_refused_or_not_found_and_never_a_mistake(
    context: Context, app: FastAPI, hostile: str
) -> None:
    token = await make_user(context, "harbour-admin", "administrator")
    async with browser(app, authorization=f"Bearer {token}") as client:
        for path in ("systems", "backups", "runs", "restores", "routines", "stores"):
            answer = await client.get(f"/api/v1/{path}/{quote(hostile, safe='')}")
            assert answer.status_code in (404, 422), f"{path}: {answer.text}"
        for query in (
            {"kind": hostile},
            {"state": hostile},
            {"system": hostile},
            {"after": hostile},
        ):
            answer = await client.get("/api/v1/runs", params=query)
            assert answer.status_code in (200, 404, 422), f"{query}: {answer.text}"
        login = {"name": "quay", "account": hostile, "password": "x"}
        answer = await client.post("/api/v1/logins", json=login)
        assert answer.status_code in (201, 422), answer.text
        answer = await client.post(
            "/api/v1/logins", json={**login, "password": None, "private_key": ""}
        )
        assert answer.status_code == 422, answer.text


def test_plain_http_off_loopback_is_refused(tmp_path: Path) -> None:
    with pytest.raises(MendSettings, match="not a loopback address"):
        wiring.read_settings(database="postgresql://x", state=str(tmp_path), host="0.0.0.0")


def test_a_key_file_that_others_may_read_is_refused(tmp_path: Path) -> None:
    key_file.load(tmp_path / "state")
    (tmp_path / "state/service.key").chmod(0o644)
    with pytest.raises(MendSettings, match="Others may read"):
        key_file.load(tmp_path / "state")


def test_a_sealed_secret_cannot_be_moved_to_another_row(tmp_path: Path) -> None:
    keys = key_file.load(tmp_path / "state")
    sealed = keys.seal(b"secret", "logins|a|secret")
    assert keys.open(sealed, "logins|a|secret") == b"secret"
    with pytest.raises(Exception, match="does not open"):
        keys.open(sealed, "logins|b|secret")
