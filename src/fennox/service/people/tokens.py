"""Sessions of people, and tokens they make for programs. Only hashes are stored."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import delete, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Token, User
from fennox.core.errors import NotSignedIn
from fennox.service.people.persons import Person, person_from
from fennox.wire.access import Right, Role, TokenKind

LIFE: dict[TokenKind, timedelta] = {
    "console": timedelta(hours=12),
    "client": timedelta(days=30),
    "automation": timedelta(days=90),
    "metrics": timedelta(days=365),
}
VOUCHED = timedelta(hours=12)
FRESH = timedelta(minutes=10)  # validity of an authentication for grave acts
_NOTED_EVERY = timedelta(minutes=1)  # limits how often a request writes
_LONGEST_PROGRAM = 120  # characters


@dataclass(frozen=True)
class Origin:
    """Origin of a session: the caller's address and user agent."""

    address: str
    program: str


@dataclass(frozen=True)
class Narrow:
    """Restrictions of a token. None: unrestricted."""

    role: Role | None = None
    rights: list[Right] | None = None
    scope: list[str] | None = None


def digest(token: str) -> str:
    return hashlib.sha256(token.encode(errors="replace")).hexdigest()


async def begin(
    session: AsyncSession,
    user: User,
    kind: TokenKind,
    now: datetime,
    origin: Origin,
    *,
    proved: bool = True,
) -> tuple[str, datetime]:
    """Start a session; returns its secret and its end. ``proved``: the person just authenticated.
    People from an identity provider return to it every day, so that its information is never older.
    """
    secret = secrets.token_urlsafe(32)
    until = now + (min(LIFE[kind], VOUCHED) if user.issuer else LIFE[kind])
    await session.execute(delete(Token).where(Token.until < now))
    session.add(_row(user, secret, kind, now, until, origin, proved=proved))
    return secret, until


async def make(
    session: AsyncSession,
    user: User,
    kind: TokenKind,
    name: str,
    until: datetime,
    now: datetime,
    narrow: Narrow,
) -> tuple[str, Token]:
    """A token for a program. It does not authenticate a person, so it permits no grave act."""
    secret = secrets.token_urlsafe(32)
    row = _row(user, secret, kind, now, until, Origin("", ""), proved=False)
    row.name, row.role, row.scope = name, narrow.role, narrow.scope
    row.rights = list(narrow.rights) if narrow.rights is not None else None
    session.add(row)
    await session.flush()
    return secret, row


def _row(
    user: User,
    secret: str,
    kind: TokenKind,
    now: datetime,
    until: datetime,
    origin: Origin,
    *,
    proved: bool,
) -> Token:
    return Token(
        hash=digest(secret),
        id=secrets.token_hex(6),
        user_id=user.id,
        purpose=kind,
        created=now,
        until=until,
        address=origin.address,
        program=origin.program[:_LONGEST_PROGRAM],
        proved=func.now() if proved else None,
    )


async def person_of(
    session: AsyncSession, secret: str, *, by_cookie: bool, now: datetime
) -> Person:
    """Raises ``NotSignedIn`` if the secret is unknown or expired."""
    # a proof from the future was dated by a wrong clock, and proves nothing
    fresh = func.coalesce(Token.proved.between(func.now() - FRESH, func.now()), False)
    mine = select(User, Token, fresh).join(Token, Token.user_id == User.id)
    found = (
        await session.execute(mine.where(Token.hash == digest(secret), Token.until > now))
    ).first()
    if found is None or (found[1].purpose == "console") != by_cookie:
        raise NotSignedIn("You are not signed in.", "Sign in, for example with `fennox sign-in`.")
    user, token, proved = found
    if token.used is None or abs(now - token.used) > _NOTED_EVERY:
        await session.execute(update(Token).where(Token.hash == token.hash).values(used=now))
    return person_from(user, token, by_cookie=by_cookie, proved=proved)


async def prove(session: AsyncSession, who: Person) -> None:
    """Record a fresh authentication."""
    await session.execute(update(Token).where(Token.id == who.session).values(proved=func.now()))


async def end(session: AsyncSession, secret: str) -> None:
    await session.execute(delete(Token).where(Token.hash == digest(secret)))


async def end_others(session: AsyncSession, user: str, but: str | None) -> int:
    """End a person's sessions, except ``but``; tokens of programs stay. Returns the
    number ended.
    """
    mine = delete(Token).where(Token.user_id == user, Token.purpose.in_(("console", "client")))
    ended = await session.execute(
        mine.where(Token.id != but).returning(Token.id) if but else mine.returning(Token.id)
    )
    return len(ended.all())
