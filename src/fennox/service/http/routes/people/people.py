"""People: who may sign in, and what they may do."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit, users
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.approvals import NEEDED
from fennox.service.http.routes.people.session import Here
from fennox.service.people import passwords
from fennox.service.queries.lookups import find_user
from fennox.wire.access import NewUser, UserChange, UserShown
from fennox.wire.base import Page

router = api_router("people")


@router.get("/users")
async def list_users(context: Here) -> Page[UserShown]:
    """Everybody who may sign in."""
    async with context.session() as session:
        return Page(items=await users.all_users(session))


@router.post("/users", status_code=201)
async def add_user(wanted: NewUser, request: Request, context: Here) -> UserShown:
    """Add a person. They must change the password at their first sign-in."""
    hash_ = await passwords.hash_password(wanted.password.get_secret_value(), wanted.name)
    async with context.session() as session:
        row = await users.add(session, wanted, hash_, context.now())
        await audit.note(session, request, "added", "user", row.name, **users.in_audit(row))
        return await users.shown(session, row)


@router.patch("/users/{name}")
async def change_user(name: str, wanted: UserChange, request: Request, context: Here) -> UserShown:
    """Change a person's permissions, or reset their access. A new password or role ends their
    sessions.
    """
    given = wanted.password.get_secret_value() if wanted.password is not None else None
    hash_ = await passwords.hash_password(given, name) if given is not None else None
    async with context.session() as session:
        row = await find_user(session, name)
        changed = await users.change(session, row, wanted, hash_, NEEDED)
        await audit.note(session, request, "changed", "user", row.name, **changed)
        return await users.shown(session, row)


@router.delete("/users/{name}", status_code=204)
async def remove_user(name: str, request: Request, context: Here) -> None:
    """Remove a person, every session of theirs and every token they made; the last administrator
    stays.
    """
    async with context.session() as session:
        await users.remove(session, await find_user(session, name), NEEDED)
        await audit.note(session, request, "removed", "user", name)
