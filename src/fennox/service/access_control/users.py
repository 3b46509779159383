"""Users: who may sign in, what they may do, and changes by an administrator."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Token, User
from fennox.core.errors import BadInput, Conflict
from fennox.service.access_control import approvals, second_factors
from fennox.service.people import scopes, tokens
from fennox.service.people.first_administrator import new_user
from fennox.service.people.persons import covered, rights_of
from fennox.wire.access import Act, NewUser, Role, UserChange, UserShown


async def all_users(session: AsyncSession) -> list[UserShown]:
    rows = (await session.execute(select(User).order_by(User.name))).scalars().all()
    return [await shown(session, row) for row in rows]


async def shown(session: AsyncSession, row: User) -> UserShown:
    await session.flush()
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


async def add(session: AsyncSession, wanted: NewUser, password_hash: str, now: datetime) -> User:
    """They must change the password at their first sign-in. Raises Conflict and BadInput."""
    same = select(User).where(User.name == wanted.name)
    if (await session.execute(same)).first() is not None:
        raise Conflict(f"The user {wanted.name} already exists.", "Choose another name.")
    await scopes.check(session, wanted.scope)
    row = new_user(wanted.name, wanted.role, password_hash, now)
    row.must_change, row.scope = True, wanted.scope
    row.rights = list(wanted.rights) if wanted.rights is not None else None
    session.add(row)
    return row


def in_audit(row: User) -> dict[str, str]:
    return {"role": row.role, "rights": _rights(row), "scope": _scope(row)}


async def change(
    session: AsyncSession,
    row: User,
    wanted: UserChange,
    password_hash: str | None,
    needed: Mapping[Act, Role],
) -> dict[str, str]:
    """``needed``: the role that may approve each act. Returns what changed, for the audit."""
    await scopes.check(session, wanted.scope)
    before = in_audit(row)
    if wanted.role is not None and wanted.role != row.role:
        await _must_not_be_the_last(session, row)
        row.role = wanted.role
    _set_reach(row, wanted)
    after = in_audit(row)
    changed = {
        what: f"{before[what]} → {now}" for what, now in after.items() if now != before[what]
    }
    if password_hash is not None:
        row.password_hash, row.must_change = password_hash, True
        changed |= {"password": "set again"}
    if wanted.forget_second_factor:
        await second_factors.forget(session, row)
        changed["second factor"] = "forgotten"
    if row.scope is not None:
        await _must_not_be_the_last(session, row)
    if password_hash is not None or "role" in changed or wanted.forget_second_factor:
        changed["sessions ended"] = str(await tokens.end_others(session, row.id, but=None))
    await approvals.must_leave_two(session, await approvals.acts(session), needed)
    return changed


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


async def remove(session: AsyncSession, row: User, needed: Mapping[Act, Role]) -> None:
    """Remove a user with sessions and tokens. ``needed``: the role that may approve each act."""
    await _must_not_be_the_last(session, row)
    await session.delete(row)
    await session.flush()
    await approvals.must_leave_two(session, await approvals.acts(session), needed)


async def _must_not_be_the_last(session: AsyncSession, row: User) -> None:
    """Ensure that one unrestricted administrator remains. Changes are serialised."""
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
