"""Logins: what is kept of them, and where an administrator admits them."""

from __future__ import annotations

import secrets

from fastapi import APIRouter, Request
from sqlalchemy import ColumnElement, delete, func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, LoginPlace, System
from fennox.core.errors import BadInput, Conflict, NotFound
from fennox.links.base import parse_address
from fennox.service.access_control import audit
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import Way
from fennox.wire.base import Page
from fennox.wire.stores import LoginChange, LoginPlaceShown, LoginShown, NewLogin, NewLoginPlace

router = APIRouter(tags=["logins"])

_SSH = 22


def _used_by(login: Login) -> ColumnElement[bool]:
    return (StoreRow.login_id == login.id) | (StoreRow.sweep_login_id == login.id)


async def _login(session: AsyncSession, row: Login) -> LoginShown:
    systems = select(func.count()).select_from(System).where(System.login_id == row.id)
    stores = select(func.count()).select_from(StoreRow).where(_used_by(row))
    used = (await session.execute(systems)).scalar_one() + (
        await session.execute(stores)
    ).scalar_one()
    admitted = (
        select(LoginPlace)
        .where(LoginPlace.login_id == row.id)
        .order_by(LoginPlace.address, LoginPlace.key)
    )
    places = (await session.execute(admitted)).scalars()
    return LoginShown(
        id=row.id,
        name=row.name,
        account=row.account,
        proves_by=row.proves_by,
        certificate=bool(row.certificate),
        become=row.become,
        changed=row.changed,
        used_by=used,
        places=[
            LoginPlaceShown(address=place.address, key=place.key, by=place.by, at=place.at)
            for place in places
        ],
    )


@router.get("/logins")
async def list_logins(context: Here) -> Page[LoginShown]:
    """All logins, without their secrets."""
    async with context.session() as session:
        rows = (await session.execute(select(Login).order_by(Login.name))).scalars()
        return Page(items=[await _login(session, row) for row in rows])


@router.post("/logins", status_code=201)
async def add_login(wanted: NewLogin, request: Request, context: Here) -> LoginShown:
    """Keep a login; its secret is sealed under the service's key file."""
    async with context.session() as session:
        if (
            await session.execute(select(Login).where(Login.name == wanted.name))
        ).first() is not None:
            raise Conflict(
                f"The login {wanted.name} is already there.", "Change it, or choose another name."
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
        await audit.note(session, request, "added", "login", row.name, account=row.account)
        return await _login(session, row)


@router.patch("/logins/{name}")
async def change_login(
    name: str, wanted: LoginChange, request: Request, context: Here
) -> LoginShown:
    """Change a login in one place, for everything that uses it."""
    async with context.session() as session:
        row = await named(session, Login, name)
        if wanted.account is not None:
            row.account = wanted.account
        if wanted.become is not None:
            row.become = wanted.become
        if (
            wanted.password is not None
            or wanted.private_key is not None
            or wanted.agent
            or wanted.here
        ):
            _set_secret(context, row, wanted)
        elif wanted.certificate is not None:
            raise BadInput(
                "A certificate goes with its key.",
                "Give the private key as well.",
                field="certificate",
            )
        row.changed = context.now()
        await audit.note(session, request, "changed", "login", row.name)
        return await _login(session, row)


@router.delete("/logins/{name}", status_code=204)
async def remove_login(name: str, request: Request, context: Here) -> None:
    """Remove a login that nothing uses."""
    async with context.session() as session:
        row = await named(session, Login, name)
        users = [
            *(await session.execute(select(System.name).where(System.login_id == row.id))).scalars()
        ]
        users += (await session.execute(select(StoreRow.name).where(_used_by(row)))).scalars()
        used = or_(SheetRow.target_login_id == row.id, SheetRow.entrance_login_id == row.id)
        sheets = (await session.execute(select(SheetRow.id).where(used))).scalars().all()
        if users or sheets:
            what = ", ".join(users) if users else f"{len(sheets)} run sheets"
            raise Conflict(
                f"The login {row.name} is used by {what}.", "Give them another login first."
            )
        await session.delete(row)
        await audit.note(session, request, "removed", "login", row.name)


@router.post("/logins/{name}/places", status_code=201)
async def admit_login(
    name: str, wanted: NewLoginPlace, request: Request, context: Here, who: Who
) -> LoginShown:
    """Let a login be used at a machine that is no system of its own: a restore's fresh one, a
    spare.
    """
    address = str(parse_address(wanted.address, _SSH))
    async with context.session() as session:
        await named(session, Login, name)
    if wanted.key is None:
        await context.machines.tell_key(address, Way(wanted.site))
    async with context.session() as session:
        row = await named(session, Login, name)
        await session.merge(
            LoginPlace(
                login_id=row.id, address=address, key=wanted.key, by=who.name, at=context.now()
            )
        )
        await audit.note(
            session, request, "admitted", "login", row.name, address=address, key=str(wanted.key)
        )
        await session.flush()
        return await _login(session, row)


@router.delete("/logins/{name}/places", status_code=204)
async def revoke_login(name: str, address: str, request: Request, context: Here) -> None:
    """A login is not used at a machine any more, except by the systems that have it."""
    address = str(parse_address(address, _SSH))
    async with context.session() as session:
        row = await named(session, Login, name)
        there = (LoginPlace.login_id == row.id, LoginPlace.address == address)
        gone = (
            (await session.execute(delete(LoginPlace).where(*there).returning(LoginPlace.key)))
            .scalars()
            .all()
        )
        if not gone:
            raise NotFound(
                f"The login {row.name} was not admitted at {address}.", "See: fennox login list"
            )
        await audit.note(session, request, "revoked", "login", row.name, address=address)


def _set_secret(context: Context, row: Login, wanted: NewLogin | LoginChange) -> None:
    if (
        sum(
            (wanted.password is not None, wanted.private_key is not None, wanted.agent, wanted.here)
        )
        != 1
    ):
        raise BadInput(
            "Give a password, a private key or an agent, or say here, and only one of them.",
            "Use --password-file, --key, --agent or --here.",
            field="password",
        )
    if wanted.certificate and wanted.private_key is None:
        raise BadInput(
            "A certificate goes with its key.", "Give the private key as well.", field="certificate"
        )
    secret = wanted.private_key or wanted.password
    row.proves_by = "key" if wanted.private_key is not None else "password"
    if secret is None:
        row.proves_by = "agent" if wanted.agent else "here"
    row.certificate = wanted.certificate or ""
    row.sealed_secret = context.keyfile.seal(
        secret.get_secret_value().encode() if secret is not None else b"", f"logins|{row.id}|secret"
    )
