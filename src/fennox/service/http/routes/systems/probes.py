"""Inspecting a machine before it is enrolled."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.systems import first_look
from fennox.wire.machines.enrolling import Looked, LookWanted

router = api_router("systems")


@router.post("/systems/look")
async def look_at_machine(wanted: LookWanted, request: Request, context: Here, who: Who) -> Looked:
    """Inspect an address: what answers, and what a backup would hold and lack. Reads the machine;
    keeps nothing.
    """
    machine = await first_look.candidate(context, wanted)
    async with context.session() as session:
        await audit.note(
            session,
            request,
            "looked at",
            "machine",
            machine.address,
            login=machine.login.name,
            key=wanted.key or "unknown",
        )
    return await first_look.look(context, machine, wanted, who)
