"""Signing in: passwords by Argon2id, tokens kept as hashes, attempts limited."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import ServiceState, SignInFailure, Token, User
from fennox.core.errors import BadInput, NotSignedIn, TooManyAttempts, TryLater
from fennox.service.context import Context
from fennox.service.hashing import hashed
from fennox.wire.access import Role

CONSOLE_LIFE = timedelta(hours=12)
CLIENT_LIFE = timedelta(days=30)
MAX_FAILURES = 8
WINDOW = timedelta(minutes=10)
_LONGEST = timedelta(minutes=1)  # that a try may go on
_TURN, _TURNS = 0.25, 120  # seconds between two looks whether it is one's turn, and how many there are

_hasher = PasswordHasher()
_NOBODY = _hasher.hash(secrets.token_hex(16))  # a wrong user costs as long as a wrong password


@dataclass(frozen=True)
class Person:
    """Who is signed in. ``by_cookie``: a console, whose changes need the header that a foreign page cannot send."""

    name: str
    role: Role
    by_cookie: bool


def strength_complaint(secret: str, words: list[str]) -> str | None:
    """Why a passphrase or password is too weak, in words; None if it will do (zxcvbn score of 3 or more)."""
    if len(secret) > 1024:
        return "It is longer than 1024 characters."
    if len(secret) < 12:
        return f"It has {len(secret)} characters; 12 are the least."
    from zxcvbn import zxcvbn  # 12 MB of words, for what is seldom done

    judged = zxcvbn(secret[:72], user_inputs=words)
    if judged["score"] >= 3:
        return None
    warning = judged["feedback"]["warning"] or "It can be guessed"
    crack = judged["crack_times_display"]["offline_slow_hashing_1e4_per_second"]
    return f"{warning.rstrip('.')}: somebody who has a copy would need {crack} to guess it."


async def hash_password(password: str, user: str) -> str:
    complaint = strength_complaint(password, [user, "fennox"])
    if complaint is not None:
        raise BadInput(f"The password is too weak. {complaint}", "Use four unrelated words.", field="password")
    return await hashed(lambda: _hasher.hash(password))


def digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


async def check_password(context: Context, user: str, password: str, address: str) -> User | None:
    """The user, or None after noting the failure.

    An attempt counts before its password is checked, in every process, so that a crowd of them gets no further.
    """
    attempt = secrets.token_hex(16)
    found = await _begun(context, attempt, user, [f"user {user}", f"address {address}"])
    fits = await hashed(lambda: _fits(found, password))
    mine = SignInFailure.attempt == attempt
    async with context.session() as session:
        failed = update(SignInFailure).where(mine).values(attempt="")
        await session.execute(delete(SignInFailure).where(mine) if fits else failed)
    return found if fits else None


async def _begun(context: Context, attempt: str, user: str, subjects: list[str]) -> User | None:
    """Record an attempt, once there are fewer than the limit; the user whose password it gives."""
    for _ in range(_TURNS):
        async with context.session() as session:
            if await _may_try(session, subjects):
                session.add_all(
                    [SignInFailure(subject=subject, at=func.now(), attempt=attempt) for subject in subjects]
                )
                return (await session.execute(select(User).where(User.name == user))).scalar_one_or_none()
        await asyncio.sleep(_TURN)
    raise TryLater("Too many sign in at this moment.", "Try again in a minute.")


async def _may_try(session: AsyncSession, subjects: list[str]) -> bool:
    """Whether an attempt may begin now; raises if too many have failed. One asks at a time, and sees the others."""
    here = SignInFailure.at > func.now() - WINDOW
    left_by_the_dead = SignInFailure.at < func.now() - _LONGEST
    failed = (SignInFailure.attempt == "") | left_by_the_dead
    for subject in sorted(subjects):
        await session.execute(select(func.pg_advisory_xact_lock(func.hashtext(subject))))
        counted = select(func.count(), func.count().filter(failed)).where(SignInFailure.subject == subject, here)
        tries, failures = (await session.execute(counted)).one()
        if failures >= MAX_FAILURES:
            raise TooManyAttempts("Too many failed attempts to sign in.", "Wait ten minutes.")
        if tries >= MAX_FAILURES:
            return False
    return True


def _fits(user: User | None, password: str) -> bool:
    try:
        _hasher.verify(user.password_hash if user is not None else _NOBODY, password)
    except (VerificationError, InvalidHashError):
        return False
    return user is not None


async def make_token(session: AsyncSession, user: User, purpose: str, now: datetime) -> tuple[str, datetime]:
    token = secrets.token_urlsafe(32)
    until = now + (CONSOLE_LIFE if purpose == "console" else CLIENT_LIFE)
    await session.execute(delete(Token).where(Token.until < now))
    session.add(Token(hash=digest(token), user_id=user.id, purpose=purpose, created=now, until=until))
    return token, until


async def person_of(session: AsyncSession, token: str, *, by_cookie: bool, now: datetime) -> Person:
    found = (
        await session.execute(select(User, Token).join(Token).where(Token.hash == digest(token), Token.until > now))
    ).first()
    if found is None or (found[1].purpose == "console") != by_cookie:
        raise NotSignedIn("You are not signed in.", "Sign in, for example with `fennox sign-in`.")
    user: User = found[0]
    role: Role = user.role  # type: ignore[assignment]  # the table's check holds it to the three
    return Person(user.name, role, by_cookie)


async def new_setup_code(session: AsyncSession) -> str | None:
    """A one-time code for the first administrator, while there is no user at all."""
    if (await session.execute(select(User.id).limit(1))).first() is not None:
        return None
    code = secrets.token_urlsafe(24)
    (await session.execute(select(ServiceState))).scalar_one().setup_code = digest(code)
    return code


async def use_setup_code(session: AsyncSession, code: str, user: str, password_hash: str, now: datetime) -> User:
    state = (await session.execute(select(ServiceState).with_for_update())).scalar_one()
    taken = (await session.execute(select(User.id).limit(1))).first() is not None
    if taken or state.setup_code is None or not secrets.compare_digest(state.setup_code, digest(code)):
        raise BadInput(
            "The setup code is not valid, or has been used.", "Read the newest one in the service's log.", field="code"
        )
    state.setup_code = None
    return add_user(session, user, "administrator", password_hash, now)


def add_user(session: AsyncSession, name: str, role: Role, password_hash: str, now: datetime) -> User:
    row = User(id=secrets.token_hex(16), name=name, role=role, password_hash=password_hash, created=now)
    session.add(row)
    return row
