"""Warnings about a store, as text."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import ColumnElement, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.words import first_few
from fennox.links.base import Credential
from fennox.service.machines.context import Context
from fennox.service.people import passwords
from fennox.service.systems import dependence
from fennox.stores import addresses
from fennox.stores.mounts import mount_of

_NAMED = 5  # systems named in a warning


async def warnings(
    context: Context, session: AsyncSession, row: StoreRow, custody: str
) -> list[str]:
    """Doubts about a store, as text."""
    found = []
    address = addresses.parse(row.address)
    stores = list((await session.execute(select(StoreRow))).scalars())
    login = await session.get(Login, row.login_id) if row.login_id else None
    if row.stopped_because:
        found.append(row.stopped_because)
    if address.plain:
        found.append(
            "The protocol is plain: anyone listening on the way reads the login. The backups stay"
            " sealed."
        )
    if len(stores) == 1:
        found.append("It is the only store: every backup has a single copy.")
    elif row.site and all(store.site == row.site for store in stores):
        found.append(f"Every store is at {row.site}: a fire there takes all copies.")
    if address.scheme == "file":
        mount = mount_of(Path(row.address))
        if mount is not None and mount.point == "/":
            found.append(
                "It lies on the system disk of the machine that runs Fennox, and is lost with it."
            )
    else:
        found += await _dependences(session, row)
    if login is not None:
        found += _weak_login(context.machines.credentials.credential(login), login.name)
        found += await _shared_password(context, session, login)
    if custody == "kept":
        found.append("The service can open these backups; who takes over the service can too.")
    return found


async def _dependences(session: AsyncSession, row: StoreRow) -> list[str]:
    found = []
    host = dependence.host_of(row)
    places = [
        System.address.startswith(f"{form}:", autoescape=True) for form in (host, f"[{host}]")
    ]
    if same := await _some_names(session, or_(*places)):
        found.append(f"It lies on a protected system ({same}): both would be lost together.")
    elif row.site and (inside := await _some_names(session, System.site == row.site)):
        found.append(f"It is at the same site as {inside}.")
    if host and not dependence.is_number(host):
        found.append(
            f"It is reached by the name {host}: write its address down, in case the name service is"
            " lost too."
        )
    return found


async def _some_names(session: AsyncSession, fits: ColumnElement[bool]) -> str:
    """A few of the matching systems, and the number of others."""
    named_there = (
        (await session.execute(select(System.name).where(fits).order_by(System.name)))
        .scalars()
        .all()
    )
    return first_few(named_there, _NAMED)


async def _shared_password(context: Context, session: AsyncSession, login: Login) -> list[str]:
    mine = context.machines.credentials.credential(login).password
    others = (
        await session.execute(select(Login).where(Login.id != login.id).order_by(Login.name))
    ).scalars()
    same = [
        other.name
        for other in others
        if mine and context.machines.credentials.credential(other).password == mine
    ]
    return (
        [
            f"The login {login.name} has the same password as {', '.join(same)}: one of them opens"
            " all."
        ]
        if same
        else []
    )


def _weak_login(credential: Credential, name: str) -> list[str]:
    password = credential.password
    if password is None:
        return []
    if password.lower() == credential.account.lower():
        return [f"The login {name} has its account's name as its password: change it."]
    if passwords.strength_complaint(password, [credential.account, "fennox", "backup"]) is not None:
        return [f"The password of the login {name} is easily guessed: change it."]
    return []
