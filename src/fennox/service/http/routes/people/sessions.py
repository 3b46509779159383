"""Sessions of people, tokens of their programs, and second factors."""

from __future__ import annotations

from datetime import timedelta

import segno
from fastapi import APIRouter, Request
from sqlalchemy import select

from fennox.catalogue.models.people import Token, User
from fennox.core.errors import BadInput, Conflict, NotAllowed, NotFound
from fennox.service.access_control import audit, second_factors
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.people import scopes, tokens
from fennox.service.people.persons import COVERS, Person, person_from
from fennox.service.people.tokens import LIFE, Narrow
from fennox.wire.access import (
    NewToken,
    RecoveryCodes,
    SessionShown,
    TokenMade,
    TotpBegun,
    TotpConfirmed,
)
from fennox.wire.base import Page

router = APIRouter(tags=["sessions"])

_MOST_TOKENS = 100  # of one person


def _shown(user: User, row: Token, who: Person) -> SessionShown:
    may = person_from(user, row, by_cookie=False, proved=False)
    return SessionShown(
        id=row.id,
        user=user.name,
        kind=may.kind,
        name=row.name,
        role=may.role,
        rights=sorted(may.rights),
        scope=[list(one) for one in may.scope] if may.scope is not None else None,
        created=row.created,
        until=row.until,
        last_used=row.used,
        address=row.address,
        program=row.program,
        current=row.id == who.session,
    )


@router.get("/sessions")
async def list_sessions(who: Who, context: Here, everybody: bool = False) -> Page[SessionShown]:
    """Your sessions and tokens, or `everybody`'s, those that were used last first."""
    if everybody and not (who.may("auditor") and who.scope is None):
        raise NotAllowed(
            "Only administrators and auditors see sessions of others.", "Ask one of them."
        )
    rows = (
        select(User, Token)
        .join(Token, Token.user_id == User.id)
        .where(Token.until > context.wall())
    )
    mine = rows if everybody else rows.where(User.id == who.id)
    async with context.session() as session:
        found = (
            await session.execute(
                mine.order_by(Token.used.desc().nulls_last(), Token.created.desc())
            )
        ).all()
    return Page(items=[_shown(user, row, who) for user, row in found])


@router.delete("/sessions/{session_id}", status_code=204)
async def end_session(session_id: str, request: Request, who: Who, context: Here) -> None:
    """End a session or a token of yours; an administrator ends anybody's."""
    async with context.session() as session:
        query = (
            select(User, Token).join(Token, Token.user_id == User.id).where(Token.id == session_id)
        )
        if not (who.may("administrator") and who.scope is None):
            query = query.where(User.id == who.id)
        found = (await session.execute(query)).first()
        if found is None:
            raise NotFound(
                f"There is no session {session_id[:32]}.",
                "`fennox session list` shows those there are.",
            )
        user, row = found
        await session.delete(row)
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
    if wanted.role not in COVERS[who.role]:
        raise BadInput(
            f"You are no {wanted.role} yourself.", "Give it a role that you have.", field="role"
        )
    if wanted.rights is not None and (more := sorted(set(wanted.rights) - who.rights)):
        raise BadInput(
            f"You do not have the right {more[0]} yourself.", "Leave it out.", field="rights"
        )
    life = timedelta(days=wanted.days) if wanted.days is not None else LIFE[wanted.kind]
    async with context.session() as session:
        with scopes.within(who.scope):
            await scopes.check(session, wanted.scope)
        user = await session.get_one(User, who.id, with_for_update=True)
        now = context.wall()
        mine = select(Token.name).where(
            Token.user_id == who.id, Token.name != "", Token.until > now
        )
        names = (await session.execute(mine)).scalars().all()
        if wanted.name in names:
            raise Conflict(
                f"You have a token {wanted.name} already.",
                "Choose another name, or end that one first.",
            )
        if len(names) >= _MOST_TOKENS:
            raise Conflict(
                f"You have {_MOST_TOKENS} tokens.", "End those that nothing uses: fennox token list"
            )
        narrow = Narrow(wanted.role, wanted.rights, wanted.scope)
        secret, row = await tokens.make(
            session, user, wanted.kind, wanted.name, now + life, now, narrow
        )
        made = _shown(user, row, who)
        await audit.note(
            session,
            request,
            "made",
            "token",
            row.name,
            kind=row.purpose,
            role=made.role,
            scope=", ".join(wanted.scope or ["as its person"]),
        )
        return TokenMade(token=secret, made=made)


@router.post("/authenticator", status_code=201)
async def begin_totp(who: Who, context: Here) -> TotpBegun:
    """A secret for an authenticator. It counts once a code of it was given."""
    secret = second_factors.new_secret()
    async with context.session() as session:
        user = await session.get_one(User, who.id, with_for_update=True)
        if user.sealed_totp is not None:
            raise Conflict("You have an authenticator already.", "Remove it first.")
        await second_factors.remember(session, context, who.id, secret)
    address = second_factors.otpauth(secret, who.name)
    return TotpBegun(
        secret=secret, address=address, picture=segno.make(address).svg_data_uri(scale=4)
    )


@router.post("/authenticator/confirm")
async def confirm_totp(
    wanted: TotpConfirmed, request: Request, who: Who, context: Here
) -> RecoveryCodes:
    """Give the first code: from now on one is asked for at each sign-in. The answer are codes for
    when it is lost.
    """
    code = wanted.code.get_secret_value().strip()
    async with context.session() as session:
        user = await session.get_one(User, who.id, with_for_update=True)
        secret = await second_factors.remembered(session, context, who.id)
        step = second_factors.fitting_step(secret, code, context) if secret is not None else None
        if secret is None or step is None:
            raise BadInput(
                "The code is not right, or too much time has passed.",
                "Compare the clocks of both machines, or begin again.",
                field="code",
            )
        user.sealed_totp = context.keyfile.seal(secret.encode(), second_factors.place(who.id))
        user.totp_since, user.totp_used = context.now(), step
        codes = await second_factors.new_recovery_codes(session, who.id)
        await second_factors.done(session, who.id)
        await audit.note(session, request, "set up an authenticator for", "user", who.name)
    return RecoveryCodes(codes=codes)


@router.delete("/authenticator", status_code=204)
async def remove_totp(request: Request, who: Who, context: Here) -> None:
    """No code is asked for any more; the recovery codes end with it."""
    async with context.session() as session:
        user = await session.get_one(User, who.id, with_for_update=True)
        if user.sealed_totp is None:
            raise NotFound("You have no authenticator.", "Set one up: fennox user authenticator")
        user.sealed_totp, user.totp_since = None, None
        await second_factors.end_codes(session, who.id)
        await audit.note(session, request, "removed the authenticator of", "user", who.name)


@router.post("/recovery-codes", status_code=201)
async def new_recovery_codes(request: Request, who: Who, context: Here) -> RecoveryCodes:
    """Ten new recovery codes; those from before count no more."""
    async with context.session() as session:
        user = await session.get_one(User, who.id, with_for_update=True)
        if user.sealed_totp is None:
            raise Conflict(
                "You have no authenticator that they could stand for.", "Set one up first."
            )
        codes = await second_factors.new_recovery_codes(session, who.id)
        await audit.note(session, request, "made new recovery codes for", "user", who.name)
    return RecoveryCodes(codes=codes)
