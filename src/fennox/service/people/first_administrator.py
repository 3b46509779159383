"""Creating people, and the first administrator with a one-time code from the service's log."""

from __future__ import annotations

import secrets
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import User
from fennox.catalogue.models.service import ServiceState
from fennox.core.errors import BadInput
from fennox.service.people.tokens import digest
from fennox.wire.access import Role


async def new_code(session: AsyncSession) -> str | None:
    """A one-time code for the first administrator, while there is no user at all."""
    if (await session.execute(select(User.id).limit(1))).first() is not None:
        return None
    code = secrets.token_urlsafe(24)
    (await session.execute(select(ServiceState))).scalar_one().setup_code = digest(code)
    return code


async def first_administrator(
    session: AsyncSession, code: str, user: str, password_hash: str, now: datetime
) -> User:
    state = (await session.execute(select(ServiceState).with_for_update())).scalar_one()
    taken = (await session.execute(select(User.id).limit(1))).first() is not None
    if (
        taken
        or state.setup_code is None
        or not secrets.compare_digest(state.setup_code, digest(code))
    ):
        raise BadInput(
            "The setup code is not valid, or has been used.",
            "Read the newest one in the service's log.",
            field="code",
        )
    state.setup_code = None
    row = new_user(user, "administrator", password_hash, now)
    session.add(row)
    return row


def new_user(name: str, role: Role, password_hash: str, now: datetime) -> User:
    return User(
        id=secrets.token_hex(16), name=name, role=role, password_hash=password_hash, created=now
    )
