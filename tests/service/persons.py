"""People of Saltmere Ferries who call the application in this process."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from functools import cache

import httpx
from fastapi import FastAPI
from sqlalchemy import update

from fennox.catalogue.models.people import Token, User
from fennox.service.foundation.clock import real_now
from fennox.service.http.run_followers import RunHub
from fennox.service.machines.context import Context
from fennox.service.people import passwords, tokens
from fennox.service.people.first_administrator import new_user
from fennox.service.people.tokens import Origin
from fennox.service.processes.app import make_app
from fennox.wire.access import Role, TokenKind
from tests.service.running import PASSWORD


@cache
def _built() -> FastAPI:
    """To build the application takes seconds, and every test would do it again."""
    return make_app(None)


def application(context: Context) -> FastAPI:
    """The application, on the context of a test."""
    made = _built()
    made.state.context, made.state.hub = context, RunHub()
    return made


@dataclass(frozen=True)
class Somebody:
    """A person, and the secret of a session of theirs."""

    name: str
    id: str
    secret: str

    @property
    def headers(self) -> dict[str, str]:
        return {"authorization": f"Bearer {self.secret}"}


async def somebody(
    context: Context,
    name: str,
    role: Role = "administrator",
    *,
    scope: list[str] | None = None,
    rights: list[str] | None = None,
    kind: TokenKind = "client",
    proved: bool = True,
) -> Somebody:
    hash_ = await passwords.hash_password(PASSWORD, name)
    async with context.session() as session:
        user = new_user(name, role, hash_, real_now())
        user.scope, user.rights = scope, rights
        session.add(user)
        await session.flush()
        secret, _ = await tokens.begin(session, user, kind, real_now(), Origin("127.0.0.1", "test"))
    if not proved:
        await unproved(context, secret)
    return Somebody(name, user.id, secret)


async def unproved(context: Context, secret: str) -> None:
    async with context.session() as session:
        await session.execute(
            update(Token).where(Token.hash == tokens.digest(secret)).values(proved=None)
        )


@asynccontextmanager
async def calling(app: FastAPI, who: Somebody | None = None) -> AsyncIterator[httpx.AsyncClient]:
    transport = httpx.ASGITransport(app, raise_app_exceptions=False)
    headers = who.headers if who is not None else {}
    async with httpx.AsyncClient(
        transport=transport, base_url="http://localhost/api/v1", headers=headers
    ) as client:
        yield client


async def user_row(context: Context, who: Somebody) -> User:
    async with context.session() as session:
        return await session.get_one(User, who.id)
