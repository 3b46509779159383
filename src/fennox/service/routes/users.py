"""Users: who may sign in, and what they may do."""

from __future__ import annotations

from fastapi import APIRouter, Request
from sqlalchemy import func, select

from fennox.catalogue.models import User
from fennox.core.errors import Conflict, NotFound
from fennox.service import audit, signin
from fennox.service.routes.session import Here
from fennox.wire.access import NewUser, UserShown
from fennox.wire.base import Page

router = APIRouter(tags=["users"])


def _shown(row: User) -> UserShown:
    return UserShown(id=row.id, name=row.name, role=row.role, created=row.created)


@router.get("/users")
async def list_users(context: Here) -> Page[UserShown]:
    """All users."""
    async with context.session() as session:
        rows = (await session.execute(select(User).order_by(User.name))).scalars()
        return Page(items=[_shown(row) for row in rows])


@router.post("/users", status_code=201)
async def add_user(wanted: NewUser, request: Request, context: Here) -> UserShown:
    """Make a user with one of the three roles."""
    hash_ = await signin.hash_password(wanted.password.get_secret_value(), wanted.name)
    async with context.session() as session:
        if (await session.execute(select(User).where(User.name == wanted.name))).first() is not None:
            raise Conflict(f"The user {wanted.name} is already there.", "Choose another name.")
        row = signin.add_user(session, wanted.name, wanted.role, hash_, context.now())
        await audit.note(session, request, "added", "user", row.name, role=row.role)
        return _shown(row)


@router.delete("/users/{name}", status_code=204)
async def remove_user(name: str, request: Request, context: Here) -> None:
    """Remove a user and every sign-in of theirs; the last administrator stays."""
    async with context.session() as session:
        row = (await session.execute(select(User).where(User.name == name))).scalar_one_or_none()
        if row is None:
            raise NotFound(f"There is no user {name}.", "`fennox user list` shows those there are.", field="name")
        administrators = select(func.count()).select_from(User).where(User.role == "administrator")
        if row.role == "administrator" and (await session.execute(administrators)).scalar_one() == 1:
            raise Conflict(f"{name} is the last administrator.", "Make another one first.")
        await session.delete(row)
        await audit.note(session, request, "removed", "user", name)
