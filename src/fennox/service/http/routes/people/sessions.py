"""Sessions of people, tokens of their programs, and second factors."""

from __future__ import annotations

import segno
from fastapi import Request

from fennox.service.access_control import audit, second_factors, sessions
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.people import tokens
from fennox.wire.access import (
    NewToken,
    RecoveryCodes,
    SessionShown,
    TokenMade,
    TotpBegun,
    TotpConfirmed,
)
from fennox.wire.base import Page

router = api_router("sessions")


@router.get("/sessions")
async def list_sessions(who: Who, context: Here, everybody: bool = False) -> Page[SessionShown]:
    """Your sessions and tokens, or `everybody`'s, most recently used first."""
    async with context.session() as session:
        return await sessions.page(session, who, context.wall(), everybody=everybody)


@router.delete("/sessions/{session_id}", status_code=204)
async def end_session(session_id: str, request: Request, who: Who, context: Here) -> None:
    """End one of your sessions or tokens; administrators can end anybody's."""
    async with context.session() as session:
        user, row = await sessions.end(session, session_id, who)
        await audit.note(
            session, request, "ended", "session", row.name or row.id, of=user.name, kind=row.purpose
        )


@router.post("/sessions/end-others", status_code=204)
async def end_other_sessions(request: Request, who: Who, context: Here) -> None:
    """Sign out everywhere else; tokens of programs stay."""
    async with context.session() as session:
        ended = await tokens.end_others(session, who.id, but=who.session)
        await audit.note(
            session, request, "ended other sessions of", "user", who.name, ended=str(ended)
        )


@router.post("/tokens", status_code=201)
async def add_token(wanted: NewToken, request: Request, who: Who, context: Here) -> TokenMade:
    """Make a token for a program, which can do no more than you may. It is shown once."""
    async with context.session() as session:
        made = await sessions.make_token(session, wanted, who, context.wall())
        await audit.note(
            session,
            request,
            "made",
            "token",
            wanted.name,
            kind=wanted.kind,
            role=made.made.role,
            scope=", ".join(wanted.scope or ["as its person"]),
        )
        return made


@router.post("/authenticator", status_code=201)
async def begin_totp(who: Who, context: Here) -> TotpBegun:
    """A secret for an authenticator; active once a code from it is given."""
    async with context.session() as session:
        secret = await second_factors.begin(session, context, who.id)
    address = second_factors.otpauth(secret, who.name)
    return TotpBegun(
        secret=secret, address=address, picture=segno.make(address).svg_data_uri(scale=4)
    )


@router.post("/authenticator/confirm")
async def confirm_totp(
    wanted: TotpConfirmed, request: Request, who: Who, context: Here
) -> RecoveryCodes:
    """Confirm with the first code: every sign-in then needs one. Returns recovery codes in case the
    authenticator is lost.
    """
    code = wanted.code.get_secret_value().strip()
    async with context.session() as session:
        codes = await second_factors.confirm(session, context, who.id, code)
        await audit.note(session, request, "set up an authenticator for", "user", who.name)
    return RecoveryCodes(codes=codes)


@router.delete("/authenticator", status_code=204)
async def remove_totp(request: Request, who: Who, context: Here) -> None:
    """Remove the authenticator and its recovery codes."""
    async with context.session() as session:
        await second_factors.remove(session, who.id)
        await audit.note(session, request, "removed the authenticator of", "user", who.name)


@router.post("/recovery-codes", status_code=201)
async def new_recovery_codes(request: Request, who: Who, context: Here) -> RecoveryCodes:
    """Ten new recovery codes; earlier ones become invalid."""
    async with context.session() as session:
        codes = await second_factors.replace_recovery_codes(session, who.id)
        await audit.note(session, request, "made new recovery codes for", "user", who.name)
    return RecoveryCodes(codes=codes)
