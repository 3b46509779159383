"""The recovery sheet."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here
from fennox.service.own_state import recovery_plan
from fennox.wire.recovery import RecoverySheet

router = api_router("recovery")


@router.post("/recovery-sheet")
async def recovery_sheet(request: Request, context: Here) -> RecoverySheet:
    """Everything needed after a disaster, except the passphrase."""
    async with context.session() as session:
        made = await recovery_plan.sheet(context, session)
        await audit.note(session, request, "made", "recovery sheet", "all")
        return made
