"""Systems that routines leave alone: those that are no more, and how they and suspended ones are
taken again.
"""

from __future__ import annotations

from fastapi import APIRouter, Request
from sqlalchemy import select

from fennox.catalogue.models.runs import IS_ACTIVE, Run
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.service.access_control import audit
from fennox.service.http.routes.people.session import Here
from fennox.service.machines.context import named
from fennox.service.systems import enrolment
from fennox.service.systems.views import shown
from fennox.wire.enrolling import Removed, RemoveWanted, Retired
from fennox.wire.systems import SystemShown

router = APIRouter(tags=["systems"])


@router.post("/systems/{name}/retire")
async def retire_system(name: str, wanted: Retired, request: Request, context: Here) -> SystemShown:
    """Say that a system is no more. Its backups stay until a person lets them go by their ladders
    as well.
    """
    async with context.session() as session:
        row = await named(session, System, name)
        await session.refresh(row, with_for_update=True)
        enrolment.must_not_be_own(row)
        await enrolment.must_be_at_rest(session, row)
        if row.retired is not None and row.let_go == wanted.let_go:
            raise Conflict(
                f"{row.name} is retired already.",
                "Bring it back with `fennox system resume`, or let its backups go.",
            )
        row.retired = row.retired or context.now()
        row.retired_because, row.let_go = wanted.because.strip(), wanted.let_go
        await audit.note(
            session,
            request,
            "retired",
            "system",
            row.name,
            because=row.retired_because,
            let_go=str(row.let_go),
        )
        await session.flush()
        return (await shown(context, session, [row]))[0]


@router.post("/systems/{name}/resume")
async def resume_system(name: str, request: Request, context: Here) -> SystemShown:
    """Let routines take a system again that is suspended or retired; what a take left open counts
    as undone.
    """
    async with context.session() as session:
        row = await named(session, System, name)
        await session.refresh(row, with_for_update=True)
        if not row.suspended_because and not row.left_open and row.retired is None:
            raise Conflict(
                f"{row.name} is neither suspended nor retired.", "Nothing is to be done."
            )
        active = select(Run).where(Run.system_id == row.id, Run.kind == "restore", IS_ACTIVE)
        if (await session.execute(active)).first() is not None:
            raise Conflict(f"A restore of {row.name} goes on.", "Finish or stop it first.")
        if row.retired is not None:
            await enrolment.must_be_free(session, row.name, row.address, row.site, row.id)
        was = row.suspended_because or row.retired_because
        await audit.note(
            session,
            request,
            "resumed",
            "system",
            row.name,
            was=was,
            left_open=", ".join(row.left_open),
        )
        row.suspended_because, row.left_open = "", []
        row.retired, row.retired_because, row.let_go = None, "", False
        await session.flush()
        return (await shown(context, session, [row]))[0]


@router.post("/systems/{name}/remove")
async def remove_system(
    name: str, wanted: RemoveWanted, request: Request, context: Here
) -> Removed:
    """Forget a system, with its log book and its run sheets. Its backups stay in the stores; to
    adopt one brings them and the system back.
    """
    async with context.session() as session:
        row = await named(session, System, name)
        await session.refresh(row, with_for_update=True)
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
