"""Users from an identity provider."""

from __future__ import annotations

from fastapi import Request
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import User
from fennox.core.errors import NotAllowed
from fennox.service.access_control import audit
from fennox.service.machines.context import Context
from fennox.service.people import tokens
from fennox.service.people.first_administrator import new_user
from fennox.service.people.identity_provider import Vouched


async def known(session: AsyncSession, issuer: str, subject: str) -> User | None:
    mine = select(User).where(User.issuer == issuer, User.subject == subject)
    return (await session.execute(mine.with_for_update())).scalar_one_or_none()


async def user_of(
    session: AsyncSession, request: Request, context: Context, vouched: Vouched
) -> User:
    """The user, with the role given by the provider's groups now; created at the first sign-in.
    Raises NotAllowed if another user has that name.
    """
    user = await known(session, vouched.issuer, vouched.subject)
    if user is None:
        return await _first_sign_in(session, request, context, vouched)
    if user.role != vouched.role:
        await tokens.end_others(session, user.id, but=None)
        await audit.note_as(
            session,
            request,
            user.name,
            "changed by the provider",
            "user",
            user.name,
            role=f"{user.role} → {vouched.role}",
        )
        user.role = vouched.role
    return user


async def _first_sign_in(
    session: AsyncSession, request: Request, context: Context, vouched: Vouched
) -> User:
    same = select(User.id).where(User.name == vouched.name)
    if (await session.execute(same)).first() is not None:
        raise NotAllowed(
            f"A user {vouched.name} exists here already, and the provider does not vouch for that"
            " one.",
            "An administrator renames or removes that user, or the provider gives you another"
            " name.",
        )
    user = new_user(vouched.name, vouched.role, "", context.now())
    user.issuer, user.subject = vouched.issuer, vouched.subject
    session.add(user)
    await audit.note_as(
        session, request, user.name, "added by the provider", "user", user.name, role=user.role
    )
    await session.flush()
    return user
