"""Fennox's own state."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.own_state import own_routine
from fennox.wire.ownstate import OwnStateShown, OwnStateWanted

router = api_router("own state")


@router.get("/own-state")
async def own_state(context: Here) -> OwnStateShown:
    """Whether and where Fennox's own state is backed up, and since when not."""
    async with context.session() as session:
        return await own_routine.shown(context, session)


@router.put("/own-state")
async def keep_own_state(
    wanted: OwnStateWanted, request: Request, context: Here, who: Who
) -> OwnStateShown:
    """Back up Fennox's own state twice a day, the first time at once."""
    async with context.session() as session:
        await own_routine.keep(context, session, wanted, who.name)
        await audit.note(
            session, request, "keeps", "own state", wanted.store, copies=", ".join(wanted.copy_to)
        )
    return await own_state(context)
