"""Signing in and out, authenticating again, and the first administrator."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request, Response
from pydantic import SecretStr

from fennox.catalogue.models.people import User
from fennox.core.errors import BadInput
from fennox.service.access_control import audit, credentials
from fennox.service.access_control.credentials import signed_in
from fennox.service.http.access import cookie_name, person
from fennox.service.http.guarded import api_router
from fennox.service.machines.context import Context
from fennox.service.people import first_administrator, passwords, tokens
from fennox.service.people.persons import Person
from fennox.service.people.tokens import Origin
from fennox.wire.access import FirstUser, PasswordChange, ProofWanted, SignedIn, SignIn, TokenKind

router = api_router("session")


def context_of(request: Request) -> Context:
    found: Context = request.app.state.context
    return found


Here = Annotated[Context, Depends(context_of)]
Who = Annotated[Person, Depends(person)]


def origin_of(request: Request) -> Origin:
    return Origin(
        request.client.host if request.client else "-", request.headers.get("user-agent", "")
    )


def _code(given: SecretStr | None) -> str | None:
    return given.get_secret_value() if given is not None else None


@router.post("/session")
async def sign_in(wanted: SignIn, request: Request, response: Response, context: Here) -> SignedIn:
    """Sign in: a cookie for the console, or a token for a client."""
    claimed = credentials.ClaimedIdentity(
        wanted.user, wanted.password.get_secret_value(), _code(wanted.code)
    )
    user = await credentials.check(context, claimed, origin_of(request).address, request)
    return await begin_session(context, request, response, user, as_token=wanted.token)


async def begin_session(
    context: Context,
    request: Request,
    response: Response,
    user: User,
    *,
    as_token: bool,
    proved: bool = True,
) -> SignedIn:
    """Start a session for an identified person; ``proved``: just authenticated."""
    async with context.session() as session:
        kind: TokenKind = "client" if as_token else "console"
        secret, _ = await tokens.begin(
            session, user, kind, context.wall(), origin_of(request), proved=proved
        )
        await audit.note_as(session, request, user.name, "signed in", "user", user.name)
        shown = await signed_in(session, context, secret, by_cookie=not as_token)
    if not as_token:
        secure = request.url.scheme == "https"
        response.set_cookie(
            cookie_name(request), secret, httponly=True, samesite="strict", secure=secure, path="/"
        )
    return shown.model_copy(update={"token": secret if as_token else None})


@router.get("/session")
async def who_am_i(request: Request, who: Who, context: Here) -> SignedIn:
    """The signed-in person and their permissions."""
    return await who_is_signed_in(request, who, context)


async def who_is_signed_in(request: Request, who: Person, context: Context) -> SignedIn:
    async with context.session() as session:
        return await signed_in(session, context, _token(request), by_cookie=who.by_cookie)


@router.delete("/session", status_code=204)
async def sign_out(request: Request, response: Response, who: Who, context: Here) -> None:
    """Sign out; the token or cookie becomes invalid."""
    async with context.session() as session:
        await tokens.end(session, _token(request))
        await audit.note(session, request, "signed out", "user", who.name)
    response.delete_cookie(cookie_name(request), path="/")


@router.post("/session/proof")
async def prove(wanted: ProofWanted, request: Request, who: Who, context: Here) -> SignedIn:
    """Authenticate again, for grave acts within the next ten minutes."""
    claimed = credentials.ClaimedIdentity(
        who.name, wanted.password.get_secret_value(), _code(wanted.code)
    )
    await credentials.check(context, claimed, origin_of(request).address, request)
    async with context.session() as session:
        await tokens.prove(session, who)
        await audit.note(session, request, "proved who they are", "user", who.name)
        return await signed_in(session, context, _token(request), by_cookie=who.by_cookie)


@router.post("/session/password")
async def change_password(
    wanted: PasswordChange, request: Request, who: Who, context: Here
) -> SignedIn:
    """Change your own password; all your other sessions end."""
    old, new = wanted.old.get_secret_value(), wanted.new.get_secret_value()
    if old == new:
        raise BadInput("The new password is the old one.", "Choose another.", field="new")
    hash_ = await passwords.hash_password(new, who.name)
    await credentials.check_password_alone(context, who.name, old, origin_of(request).address)
    async with context.session() as session:
        ended = await credentials.set_password(session, who, hash_)
        await audit.note(
            session, request, "changed the password of", "user", who.name, sessions_ended=str(ended)
        )
        return await signed_in(session, context, _token(request), by_cookie=who.by_cookie)


def _token(request: Request) -> str:
    header = request.headers.get("authorization", "")
    return (
        header.removeprefix("Bearer ") if header else request.cookies.get(cookie_name(request), "")
    )


@router.post("/first-user", status_code=201)
async def first_user(
    wanted: FirstUser, request: Request, response: Response, context: Here
) -> SignedIn:
    """Create the first administrator with the one-time code from the service's log, and sign them
    in.
    """
    hash_ = await passwords.hash_password(wanted.password.get_secret_value(), wanted.user)
    async with context.session() as session:
        code = wanted.code.get_secret_value()
        user = await first_administrator.first_administrator(
            session, code, wanted.user, hash_, context.now()
        )
        await audit.note_as(
            session, request, user.name, "made first administrator", "user", user.name
        )
    return await begin_session(context, request, response, user, as_token=wanted.token)
