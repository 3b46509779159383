"""Passkeys: adding one, signing in and proving again with one."""

from __future__ import annotations

from fastapi import Request, Response

from fennox.catalogue.models.people import User
from fennox.core.errors import NotAllowed, NotSignedIn
from fennox.service.access_control import audit, passkeys
from fennox.service.access_control.attempts import attempt, to_sign_in
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import (
    Here,
    Who,
    begin_session,
    origin_of,
    who_is_signed_in,
)
from fennox.service.machines.context import Context
from fennox.service.people import challenges, tokens
from fennox.wire.access import NewPasskey, PasskeyBegun, PasskeyShown, PasskeySignIn, SignedIn
from fennox.wire.base import Page

router = api_router("passkeys")

_NEW, _SIGN_IN = "new passkey", "passkey sign-in"


@router.get("/passkeys")
async def list_passkeys(who: Who, context: Here) -> Page[PasskeyShown]:
    """Your own passkeys."""
    async with context.session() as session:
        rows = await passkeys.of_user(session, who.id)
    return Page(
        items=[
            PasskeyShown(id=row.id, name=row.name, created=row.created, last_used=row.used)
            for row in rows
        ]
    )


@router.post("/passkeys/begin")
async def begin_passkey(who: Who, context: Here) -> PasskeyBegun:
    """Options for the browser to create a passkey."""
    async with context.session() as session:
        options = await passkeys.begin(session, context, who.id)
        begun = {"challenge": options.challenge, "user": who.id}
        handle = await challenges.begin(session, _NEW, begun)
    return PasskeyBegun(handle=handle, options=options.plain)


@router.post("/passkeys", status_code=201)
async def add_passkey(
    wanted: NewPasskey, request: Request, who: Who, context: Here
) -> PasskeyShown:
    """Store a passkey created by the browser. It signs in alone."""
    async with context.session() as session:
        begun = await challenges.use(session, _NEW, wanted.handle.get_secret_value())
        if begun["user"] != who.id:
            raise NotAllowed("Somebody else began this.", "Begin it again.")
        row = await passkeys.add(session, context, wanted, begun["challenge"], who.id)
        await audit.note(session, request, "added", "passkey", row.name)
    return PasskeyShown(id=row.id, name=row.name, created=row.created, last_used=None)


@router.delete("/passkeys/{passkey}", status_code=204)
async def remove_passkey(passkey: str, request: Request, who: Who, context: Here) -> None:
    """Remove one of your passkeys."""
    async with context.session() as session:
        row = await passkeys.remove(session, passkey, who.id)
        await audit.note(session, request, "removed", "passkey", row.name)


@router.post("/session/passkey/begin")
async def begin_passkey_sign_in(context: Here) -> PasskeyBegun:
    """Options for the browser to sign in with a passkey."""
    options = passkeys.authentication(passkeys.party(context))
    async with context.session() as session:
        handle = await challenges.begin(session, _SIGN_IN, {"challenge": options.challenge})
    return PasskeyBegun(handle=handle, options=options.plain)


@router.post("/session/passkey")
async def sign_in_with_passkey(
    wanted: PasskeySignIn, request: Request, response: Response, context: Here
) -> SignedIn:
    """Sign in with a passkey: a cookie for the console."""
    user = await _held_by(context, wanted, request)
    return await begin_session(context, request, response, user, as_token=False)


@router.post("/session/proof/passkey")
async def prove_with_passkey(
    wanted: PasskeySignIn, request: Request, who: Who, context: Here
) -> SignedIn:
    """Authenticate again, for grave acts within the next ten minutes."""
    user = await _held_by(context, wanted, request)
    if user.id != who.id:
        raise NotSignedIn("This is a passkey of somebody else.", "Use your own.")
    async with context.session() as session:
        await tokens.prove(session, who)
        await audit.note(session, request, "proved who they are", "user", who.name)
    return await who_is_signed_in(request, who, context)


async def _held_by(context: Context, wanted: PasskeySignIn, request: Request) -> User:
    async with attempt(context, to_sign_in("", origin_of(request).address)) as tried:
        async with context.session() as session:
            begun = await challenges.use(session, _SIGN_IN, wanted.handle.get_secret_value())
        async with context.session() as session:
            user = await passkeys.authenticated(
                session, context, begun["challenge"], wanted.credential
            )
        tried.passed = True
    return user
