"""Logins, and where an administrator admits them."""

from __future__ import annotations

from fastapi import Request

from fennox.catalogue.models.systems import Login
from fennox.links.base import parse_address
from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import named
from fennox.service.machines.routes_to_machines import Way
from fennox.service.systems import logins
from fennox.wire.base import Page
from fennox.wire.stores import LoginChange, LoginShown, NewLogin, NewLoginPlace

router = api_router("logins")

_SSH = 22


@router.get("/logins")
async def list_logins(context: Here) -> Page[LoginShown]:
    """All logins, without their secrets."""
    async with context.session() as session:
        return Page(items=await logins.all_logins(session))


@router.post("/logins", status_code=201)
async def add_login(wanted: NewLogin, request: Request, context: Here) -> LoginShown:
    """Add a login; its secret is sealed under the service's key file."""
    async with context.session() as session:
        row = await logins.add(context, session, wanted)
        await audit.note(session, request, "added", "login", row.name, account=row.account)
        return await logins.shown(session, row)


@router.patch("/logins/{name}")
async def change_login(
    name: str, wanted: LoginChange, request: Request, context: Here
) -> LoginShown:
    """Change a login, for everything that uses it."""
    async with context.session() as session:
        row = await named(session, Login, name)
        await logins.change(context, session, row, wanted)
        await audit.note(session, request, "changed", "login", row.name)
        return await logins.shown(session, row)


@router.delete("/logins/{name}", status_code=204)
async def remove_login(name: str, request: Request, context: Here) -> None:
    """Remove a login that nothing uses."""
    async with context.session() as session:
        row = await named(session, Login, name)
        await logins.remove(context, session, row)
        await audit.note(session, request, "removed", "login", row.name)


@router.post("/logins/{name}/places", status_code=201)
async def admit_login(
    name: str, wanted: NewLoginPlace, request: Request, context: Here, who: Who
) -> LoginShown:
    """Admit a login at a machine that is not an enrolled system, such as a restore's
    fresh target.
    """
    address = str(parse_address(wanted.address, _SSH))
    async with context.session() as session:
        await named(session, Login, name)
    if wanted.key is None:
        await context.machines.tell_key(address, Way(wanted.site))
    async with context.session() as session:
        row = await named(session, Login, name)
        await logins.admit(session, row, address, str(wanted.key), who.name, context.now())
        await audit.note(
            session, request, "admitted", "login", row.name, address=address, key=str(wanted.key)
        )
        return await logins.shown(session, row)


@router.delete("/logins/{name}/places", status_code=204)
async def revoke_login(name: str, address: str, request: Request, context: Here) -> None:
    """Withdraw a login's admission at a machine; systems that have the login keep it."""
    address = str(parse_address(address, _SSH))
    async with context.session() as session:
        row = await named(session, Login, name)
        await logins.revoke(session, row, address)
        await audit.note(session, request, "revoked", "login", row.name, address=address)
