"""Signing in and out, and the first administrator."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Request, Response

from fennox.catalogue.models import Audit, Token
from fennox.core.errors import NotSignedIn
from fennox.service import signin
from fennox.service.access import COOKIE, person
from fennox.service.context import Context
from fennox.service.signin import Person
from fennox.wire.access import FirstUser, SignedIn, SignIn

router = APIRouter(tags=["session"])


def context_of(request: Request) -> Context:
    found: Context = request.app.state.context
    return found


Here = Annotated[Context, Depends(context_of)]
Who = Annotated[Person, Depends(person)]


@router.post("/session")
async def sign_in(wanted: SignIn, request: Request, response: Response, context: Here) -> SignedIn:
    """Sign in: a cookie for the console, or a token for a client."""
    address = request.client.host if request.client else "-"
    await context.check_schema()
    user = await signin.check_password(context, wanted.user, wanted.password.get_secret_value(), address)
    async with context.session() as session:
        action = "signed in" if user else "failed to sign in"
        session.add(Audit(at=context.now(), by=wanted.user[:48], action=action, noun="user", name=wanted.user[:48],
                          details={"address": address}))  # fmt: skip
        if user is not None:
            purpose = "client" if wanted.token else "console"
            token, until = await signin.make_token(session, user, purpose, context.wall())
    if user is None:
        raise NotSignedIn("User or password is wrong.", "Check both; after eight failures you must wait.")
    if not wanted.token:
        secure = request.url.scheme == "https"
        response.set_cookie(COOKIE, token, httponly=True, samesite="strict", secure=secure, path="/")
    return SignedIn(user=user.name, role=user.role, until=until, token=token if wanted.token else None)


@router.get("/session")
async def who_am_i(request: Request, who: Who, context: Here) -> SignedIn:
    """Who is signed in."""
    async with context.session() as session:
        row = await session.get_one(Token, signin.digest(_token(request)))
    return SignedIn(user=who.name, role=who.role, until=row.until)


@router.delete("/session", status_code=204)
async def sign_out(request: Request, response: Response, context: Here) -> None:
    """Sign out; the token or cookie is worth nothing afterwards."""
    async with context.session() as session:
        row = await session.get(Token, signin.digest(_token(request)))
        if row is not None:
            await session.delete(row)
    response.delete_cookie(COOKIE, path="/")


def _token(request: Request) -> str:
    header = request.headers.get("authorization", "")
    return header.removeprefix("Bearer ") if header else request.cookies.get(COOKIE, "")


@router.post("/first-user", status_code=201)
async def first_user(wanted: FirstUser, context: Here) -> SignedIn:
    """Make the first administrator with the one-time code from the service's log."""
    hash_ = await signin.hash_password(wanted.password.get_secret_value(), wanted.user)
    async with context.session() as session:
        code = wanted.code.get_secret_value()
        user = await signin.use_setup_code(session, code, wanted.user, hash_, context.now())
        session.add(Audit(at=context.now(), by=user.name, action="made first administrator", noun="user",
                          name=user.name, details={}))  # fmt: skip
        await session.flush()
        token, until = await signin.make_token(session, user, "client", context.wall())
    return SignedIn(user=user.name, role="administrator", until=until, token=token)
