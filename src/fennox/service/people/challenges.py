"""State between the steps of a sign-in. Each is used once and expires by itself."""

from __future__ import annotations

import secrets
from datetime import timedelta

from sqlalchemy import delete, func
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Challenge
from fennox.core.errors import NotSignedIn
from fennox.service.people.tokens import digest

_LIFE = timedelta(minutes=10)


async def begin(session: AsyncSession, purpose: str, data: dict[str, str]) -> str:
    """Store ``data``; returns a handle for the caller."""
    handle = secrets.token_urlsafe(32)
    await session.execute(delete(Challenge).where(Challenge.until < func.now()))
    session.add(Challenge(id=digest(handle), purpose=purpose, data=data, until=func.now() + _LIFE))
    return handle


async def use(session: AsyncSession, purpose: str, handle: str) -> dict[str, str]:
    """Take the stored data, once. Raises ``NotSignedIn`` if it expired or was used."""
    there = delete(Challenge).where(Challenge.id == digest(handle), Challenge.purpose == purpose)
    found = await session.execute(
        there.where(Challenge.until > func.now()).returning(Challenge.data)
    )
    data: dict[str, str] | None = found.scalar_one_or_none()
    if data is None:
        raise NotSignedIn(
            "This sign-in has taken too long, or was used already.", "Begin it again."
        )
    return data
