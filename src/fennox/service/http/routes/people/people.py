"""People: who may sign in, and what they may do."""

from __future__ import annotations

from fastapi import APIRouter, Request
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Token, User
from fennox.core.errors import BadInput, Conflict
from fennox.service.access_control import approvals, audit, second_factors
from fennox.service.http.routes.people.approvals import NEEDED
from fennox.service.http.routes.people.session import Here
from fennox.service.people import passwords, scopes, tokens
from fennox.service.people.first_administrator import new_user
from fennox.service.people.persons import covered, rights_of
from fennox.service.queries.lookups import find_user
from fennox.wire.access import NewUser, Role, UserChange, UserShown
from fennox.wire.base import Page

router = APIRouter(tags=["people"])


async def _shown(session: AsyncSession, row: User) -> UserShown:
    role: Role = row.role  # type: ignore[assignment]  # the table's check holds it to the four
    last = select(func.max(Token.used)).where(Token.user_id == row.id)
    return UserShown(
        id=row.id,
        name=row.name,
        role=role,
        rights=sorted(rights_of(role, row.rights)),
        scope=row.scope,
        created=row.created,
        must_change=row.must_change,
        factors=await second_factors.kinds(session, row),
        last_used=(await session.execute(last)).scalar_one(),
    )


@router.get("/users")
async def list_users(context: Here) -> Page[UserShown]:
    """Everybody who may sign in."""
    async with context.session() as session:
        rows = (await session.execute(select(User).order_by(User.name))).scalars().all()
        return Page(items=[await _shown(session, row) for row in rows])


@router.post("/users", status_code=201)
async def add_user(wanted: NewUser, request: Request, context: Here) -> UserShown:
    """Let somebody sign in. They must change the password at their first sign-in."""
    hash_ = await passwords.hash_password(wanted.password.get_secret_value(), wanted.name)
    async with context.session() as session:
        if (
            await session.execute(select(User).where(User.name == wanted.name))
        ).first() is not None:
            raise Conflict(f"The user {wanted.name} is already there.", "Choose another name.")
        await scopes.check(session, wanted.scope)
        row = new_user(wanted.name, wanted.role, hash_, context.now())
        row.must_change, row.scope = True, wanted.scope
        row.rights = list(wanted.rights) if wanted.rights is not None else None
        session.add(row)
        await audit.note(
            session,
            request,
            "added",
            "user",
            row.name,
            role=row.role,
            rights=_rights(row),
            scope=_scope(row),
        )
        await session.flush()
        return await _shown(session, row)


@router.patch("/users/{name}")
async def change_user(name: str, wanted: UserChange, request: Request, context: Here) -> UserShown:
    """Change what somebody may do, or let them in again. A new password or role ends their
    sessions.
    """
    given = wanted.password.get_secret_value() if wanted.password is not None else None
    hash_ = await passwords.hash_password(given, name) if given is not None else None
    async with context.session() as session:
        row = await find_user(session, name)
        await scopes.check(session, wanted.scope)
        before = (row.role, _rights(row), _scope(row))
        if wanted.role is not None and wanted.role != row.role:
            await _must_not_be_the_last(session, row)
            row.role = wanted.role
        _set_reach(row, wanted)
        after = (row.role, _rights(row), _scope(row))
        names = ("role", "rights", "scope")
        changed = {
            what: f"{old} → {new}"
            for what, old, new in zip(names, before, after, strict=True)
            if old != new
        }
        if hash_ is not None:
            row.password_hash, row.must_change = hash_, True
            changed |= {"password": "set anew"}
        if wanted.forget_second_factor:
            await second_factors.forget(session, row)
            changed["second factor"] = "forgotten"
        if row.scope is not None:
            await _must_not_be_the_last(session, row)
        if hash_ is not None or before[0] != after[0] or wanted.forget_second_factor:
            changed["sessions ended"] = str(await tokens.end_others(session, row.id, but=None))
        await approvals.must_leave_two(session, await approvals.acts(session), NEEDED)
        await audit.note(session, request, "changed", "user", row.name, **changed)
        await session.flush()
        return await _shown(session, row)


def _set_reach(row: User, wanted: UserChange) -> None:
    if wanted.usual_rights and wanted.rights is not None:
        raise BadInput(
            "Rights are given, and the usual ones asked for.", "Say one of both.", field="rights"
        )
    if wanted.whole_estate and wanted.scope is not None:
        raise BadInput(
            "A scope is given, and the whole estate asked for.", "Say one of both.", field="scope"
        )
    if wanted.rights is not None or wanted.usual_rights:
        row.rights = list(wanted.rights) if wanted.rights is not None else None
    if wanted.scope is not None or wanted.whole_estate:
        row.scope = wanted.scope


@router.delete("/users/{name}", status_code=204)
async def remove_user(name: str, request: Request, context: Here) -> None:
    """Remove a person, every session of theirs and every token they made; the last administrator
    stays.
    """
    async with context.session() as session:
        row = await find_user(session, name)
        await _must_not_be_the_last(session, row)
        await session.delete(row)
        await session.flush()
        await approvals.must_leave_two(session, await approvals.acts(session), NEEDED)
        await audit.note(session, request, "removed", "user", name)


async def _must_not_be_the_last(session: AsyncSession, row: User) -> None:
    """Somebody who may do everything in the whole estate is always left. One change at a time is
    looked at.
    """
    await session.execute(select(func.pg_advisory_xact_lock(func.hashtext("administrators"))))
    others = (
        select(func.count())
        .select_from(User)
        .where(User.id != row.id, User.role == "administrator", User.scope.is_(None))
    )
    if "administrator" in covered(row.role) and not (await session.execute(others)).scalar_one():
        raise Conflict(f"{row.name} is the last administrator.", "Make another one first.")


def _rights(row: User) -> str:
    return ", ".join(row.rights) or "none" if row.rights is not None else "those of the role"


def _scope(row: User) -> str:
    return "; or ".join(row.scope) if row.scope is not None else "the whole estate"
