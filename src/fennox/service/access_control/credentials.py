"""Checking credentials: the password, then the second factor if there is one."""

from __future__ import annotations

from dataclasses import dataclass, field

from fastapi import Request
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Token, User
from fennox.core.errors import NotSignedIn, SecondFactorNeeded
from fennox.service.access_control import audit, second_factors
from fennox.service.access_control.attempts import attempt, to_sign_in
from fennox.service.machines.context import Context
from fennox.service.people import passwords, tokens
from fennox.service.people.persons import Person
from fennox.wire.access import SignedIn


@dataclass(frozen=True)
class ClaimedIdentity:
    user: str
    password: str = field(repr=False)
    code: str | None = field(repr=False)  # of an authenticator, or a recovery code


async def check(context: Context, claimed: ClaimedIdentity, address: str, request: Request) -> User:
    """The user; raises ``NotSignedIn``, ``SecondFactorNeeded`` or ``TooManyAttempts``. Audited."""
    failure: NotSignedIn | None = None
    async with attempt(context, to_sign_in(claimed.user, address)) as tried:
        user = await _user(context, claimed.user)
        hash_ = user.password_hash if user else None
        if not await passwords.fits(hash_, claimed.password) or user is None:
            failure = NotSignedIn(
                "User or password is wrong.", "Check both; after eight failures you must wait."
            )
        elif claimed.code is None and (ways := second_factors.asked_of(user)):
            tried.passed = True  # the password was right; each wrong code counts
            raise SecondFactorNeeded(
                "The password is right. A second factor is needed.",
                "Give the code of your authenticator, or a recovery code.",
                ways=ways,
            )
        elif claimed.code is not None and not await second_factors.accept(
            context, user, claimed.code
        ):
            failure = NotSignedIn(
                "The code is wrong, or was used already.", "Wait for the next one, and give that."
            )
        else:
            tried.passed = True
    if failure is None:
        assert user is not None
        return user
    async with context.session() as session:
        name, why = claimed.user[:48], failure.what
        await audit.note_as(session, request, name, "failed to sign in", "user", name, because=why)
    raise failure


async def check_password_alone(context: Context, name: str, password: str, address: str) -> None:
    """Raises ``NotSignedIn`` if the password is wrong; counts as an attempt."""
    async with attempt(context, to_sign_in(name, address)) as tried:
        user = await _user(context, name)
        tried.passed = await passwords.fits(user.password_hash if user else None, password)
    if not tried.passed:
        raise NotSignedIn("The password is wrong.", "Check it; after eight failures you must wait.")


async def _user(context: Context, name: str) -> User | None:
    async with context.session() as session:
        return (await session.execute(select(User).where(User.name == name))).scalar_one_or_none()


async def set_password(session: AsyncSession, who: Person, password_hash: str) -> int:
    """Change one's own password. All other sessions of that person end; returns their number."""
    row = await session.get_one(User, who.id, with_for_update=True)
    row.password_hash, row.must_change = password_hash, False
    return await tokens.end_others(session, who.id, but=who.session)


async def signed_in(
    session: AsyncSession, context: Context, secret: str, *, by_cookie: bool
) -> SignedIn:
    """The person with this secret, and what they may do."""
    await session.flush()
    who = await tokens.person_of(session, secret, by_cookie=by_cookie, now=context.wall())
    until = (await session.get_one(Token, tokens.digest(secret))).until
    user = await session.get_one(User, who.id)
    return SignedIn(
        user=who.name,
        role=who.role,
        rights=sorted(who.rights),
        until=until,
        proved=who.proved,
        must_change=who.must_change,
        factors=await second_factors.kinds(session, user),
        scope=[list(selectors) for selectors in who.scope] if who.scope is not None else None,
    )
