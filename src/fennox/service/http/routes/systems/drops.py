"""The receiving end: its settings, the logins of systems, and what has arrived."""

from __future__ import annotations

import asyncio

from fastapi import Request

from fennox.catalogue.models.systems import System
from fennox.service.access_control import audit
from fennox.service.drops import arrivals, drop_logins, drop_settings
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import named
from fennox.service.views import drops as drop_views
from fennox.wire.base import Page
from fennox.wire.drops import (
    Discarded,
    DropLoginMade,
    DropOfSystem,
    DropShown,
    DropWanted,
    NewDropLogin,
)

router = api_router("drops")


@router.get("/drop")
async def show_drop(context: Here) -> DropShown:
    """Where the receiving end listens."""
    async with context.session() as session:
        row = await drop_settings.settings_row(session)
        return await asyncio.to_thread(drop_settings.shown, context, row)


@router.patch("/drop")
async def change_drop(wanted: DropWanted, request: Request, context: Here) -> DropShown:
    """Switch protocols on or off; its keys are made the first time."""
    async with context.session() as session:
        row = await drop_settings.change(context, session, wanted)
        await audit.note(
            session,
            request,
            "changed",
            "service",
            "the receiving end",
            sftp=row.sftp,
            ftps=row.ftps,
            ftp=row.ftp,
            public=row.public,
            passive=row.passive,
        )
        return await asyncio.to_thread(drop_settings.shown, context, row)


@router.get("/drops")
async def list_drops(context: Here) -> Page[DropOfSystem]:
    """Systems that may push, and what of each has arrived and is not taken yet."""
    async with context.session() as session:
        return Page(items=await drop_views.all_drops(context, session))


@router.get("/systems/{name}/drop")
async def show_system_drop(name: str, context: Here) -> DropOfSystem:
    """What a system has pushed and no backup holds yet."""
    async with context.session() as session:
        row = await named(session, System, name)
        return await drop_views.of_system(context, session, row)


@router.put("/systems/{name}/drop/login")
async def add_drop_login(
    name: str, wanted: NewDropLogin, request: Request, context: Here, who: Who
) -> DropLoginMade:
    """Make a system's login at the drop, or give it a new secret, which is shown once."""
    async with context.session() as session:
        row = await named(session, System, name)
        made = await drop_logins.renew(context, session, row, wanted, who.name)
        await audit.note(
            session, request, "made a drop login for", "system", row.name, account=made.account
        )
        return made


@router.delete("/systems/{name}/drop/login", status_code=204)
async def revoke_drop_login(name: str, request: Request, context: Here) -> None:
    """Nothing more is accepted from the system; what has arrived stays."""
    async with context.session() as session:
        row = await named(session, System, name)
        await drop_logins.revoke(session, row)
        await audit.note(session, request, "revoked the drop login of", "system", row.name)


@router.post("/systems/{name}/drop/discard", status_code=204)
async def discard_arrival(name: str, wanted: Discarded, request: Request, context: Here) -> None:
    """Remove a file that has arrived and will be in no backup."""
    async with context.session() as session:
        row = await named(session, System, name)
        note = await arrivals.discard(context, row, wanted.name)
        await audit.note(
            session,
            request,
            "discarded a push of",
            "system",
            row.name,
            file=wanted.name,
            size=str(note.size),
        )
