"""Managing logins: their secrets, and the machines where they are admitted."""

from __future__ import annotations

import secrets
from datetime import datetime

from sqlalchemy import ColumnElement, delete, func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, LoginPlace, System
from fennox.core.errors import BadInput, Conflict, NotFound
from fennox.core.words import counted
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.wire.stores import LoginChange, LoginPlaceShown, LoginShown, NewLogin


async def all_logins(session: AsyncSession) -> list[LoginShown]:
    rows = (await session.execute(select(Login).order_by(Login.name))).scalars().all()
    return [await shown(session, row) for row in rows]


async def shown(session: AsyncSession, row: Login) -> LoginShown:
    """Without its secret."""
    await session.flush()
    systems = select(func.count()).select_from(System).where(System.login_id == row.id)
    stores = select(func.count()).select_from(StoreRow).where(_uses(row))
    counts = [(await session.execute(query)).scalar_one() for query in (systems, stores)]
    mine = select(LoginPlace).where(LoginPlace.login_id == row.id)
    places = await session.execute(mine.order_by(LoginPlace.address, LoginPlace.key))
    return LoginShown(
        id=row.id,
        name=row.name,
        account=row.account,
        proves_by=row.proves_by,
        certificate=bool(row.certificate),
        become=row.become,
        changed=row.changed,
        used_by=sum(counts),
        places=[
            LoginPlaceShown(address=place.address, key=place.key, by=place.by, at=place.at)
            for place in places.scalars()
        ],
    )


def _uses(login: Login) -> ColumnElement[bool]:
    """A store does."""
    return (StoreRow.login_id == login.id) | (StoreRow.sweep_login_id == login.id)


async def add(context: Context, session: AsyncSession, wanted: NewLogin) -> Login:
    same = select(Login).where(Login.name == wanted.name)
    if (await session.execute(same)).first() is not None:
        raise Conflict(
            f"The login {wanted.name} already exists.", "Change it, or choose another name."
        )
    row = Login(
        id=secrets.token_hex(16),
        name=wanted.name,
        account=wanted.account,
        changed=context.now(),
        proves_by="",
        sealed_secret=b"",
        become=wanted.become,
    )
    _set_secret(context, row, wanted)
    session.add(row)
    return row


async def change(context: Context, session: AsyncSession, row: Login, wanted: LoginChange) -> None:
    if wanted.account is not None:
        row.account = wanted.account
    if wanted.become is not None:
        row.become = wanted.become
    secrets_given = (wanted.password is not None, wanted.private_key is not None)
    if wanted.password is not None:
        password = wanted.password.get_secret_value()
        await login_uses.must_keep_rules(session, row, password, context.kinds.installed)
    if any(secrets_given) or wanted.agent or wanted.here:
        _set_secret(context, row, wanted)
    elif wanted.certificate is not None:
        raise BadInput(
            "A certificate needs its key.", "Give the private key as well.", field="certificate"
        )
    row.changed = context.now()


async def remove(context: Context, session: AsyncSession, row: Login) -> None:
    """Remove a login. Raises Conflict while something uses it."""
    by_systems = select(System.name).where(System.login_id == row.id)
    by_stores = select(StoreRow.name).where(_uses(row))
    users = [*(await session.execute(by_systems)).scalars()]
    users += await login_uses.systems_that_mean(session, row, context.kinds.installed)
    users += (await session.execute(by_stores)).scalars()
    aimed = or_(SheetRow.target_login_id == row.id, SheetRow.entrance_login_id == row.id)
    sheets = (await session.execute(select(SheetRow.id).where(aimed))).scalars().all()
    if users or sheets:
        what = ", ".join(users) if users else counted(len(sheets), "run sheet")
        raise Conflict(f"The login {row.name} is used by {what}.", "Give them another login first.")
    await session.delete(row)


async def admit(
    session: AsyncSession, row: Login, address: str, key: str, by: str, at: datetime
) -> None:
    """Admit a login at a machine that is not an enrolled system."""
    await session.merge(LoginPlace(login_id=row.id, address=address, key=key, by=by, at=at))


async def revoke(session: AsyncSession, row: Login, address: str) -> None:
    there = (LoginPlace.login_id == row.id, LoginPlace.address == address)
    gone = await session.execute(delete(LoginPlace).where(*there).returning(LoginPlace.key))
    if not gone.all():
        raise NotFound(
            f"The login {row.name} was not admitted at {address}.", "See: fennox login list"
        )


def _set_secret(context: Context, row: Login, wanted: NewLogin | LoginChange) -> None:
    if (
        sum(
            (wanted.password is not None, wanted.private_key is not None, wanted.agent, wanted.here)
        )
        != 1
    ):
        raise BadInput(
            "Give exactly one of: a password, a private key, an agent, or here.",
            "Use --password-file, --key, --agent or --here.",
            field="password",
        )
    if wanted.certificate and wanted.private_key is None:
        raise BadInput(
            "A certificate needs its key.", "Give the private key as well.", field="certificate"
        )
    secret = wanted.private_key or wanted.password
    row.proves_by = "key" if wanted.private_key is not None else "password"
    if secret is None:
        row.proves_by = "agent" if wanted.agent else "here"
    row.certificate = wanted.certificate or ""
    row.sealed_secret = context.keyfile.seal(
        secret.get_secret_value().encode() if secret is not None else b"", f"logins|{row.id}|secret"
    )
