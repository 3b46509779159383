"""Retiring systems, and letting routines take retired or suspended ones again."""

from __future__ import annotations

from fastapi import Request

from fennox.catalogue.models.systems import System
from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here
from fennox.service.machines.context import locked
from fennox.service.systems import enrolment, retirement
from fennox.service.views import systems as system_views
from fennox.wire.machines.enrolling import Removed, RemoveWanted, Retired
from fennox.wire.machines.systems import SystemShown

router = api_router("systems")


@router.post("/systems/{name}/retire")
async def retire_system(name: str, wanted: Retired, request: Request, context: Here) -> SystemShown:
    """Retire a system. Its backups stay until a person releases them to their ladders."""
    async with context.session() as session:
        row = await locked(session, System, name)
        await retirement.retire(context, session, row, wanted)
        await audit.note(
            session,
            request,
            "retired",
            "system",
            row.name,
            because=row.retired_because,
            let_go=str(row.let_go),
        )
        return await system_views.one(context, session, row)


@router.post("/systems/{name}/resume")
async def resume_system(name: str, request: Request, context: Here) -> SystemShown:
    """Let routines take a suspended or retired system again; actions a take left open count as
    undone.
    """
    async with context.session() as session:
        row = await locked(session, System, name)
        was = await retirement.resume(session, row)
        await audit.note(session, request, "resumed", "system", row.name, **was)
        return await system_views.one(context, session, row)


@router.post("/systems/{name}/remove")
async def remove_system(
    name: str, wanted: RemoveWanted, request: Request, context: Here
) -> Removed:
    """Forget a system, with its runs and run sheets. Its backups stay in the stores; adopting a
    store brings them and the system back.
    """
    async with context.session() as session:
        row = await locked(session, System, name)
        left = await enrolment.remove(session, row)
        details = {
            "because": wanted.because.strip(),
            "address": row.address,
            "stores": ", ".join(left.stores),
        }
        await audit.note(
            session, request, "removed", "system", name, backups_left=str(left.backups), **details
        )
        return Removed(name=name, backups=left.backups, stores=left.stores)
