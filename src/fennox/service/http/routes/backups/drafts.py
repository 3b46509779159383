"""Drafting a restore."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.restores import draft_request
from fennox.service.views import runs as run_views
from fennox.wire.restores import NewDraft
from fennox.wire.watch.runs import RunShown

router = api_router("restores")


@router.post("/restores", status_code=202)
async def draft_restore(wanted: NewDraft, request: Request, context: Here, who: Who) -> RunShown:
    """Start drafting a run sheet. Reads backup and target; changes nothing."""
    async with context.session() as session:
        target = await draft_request.target(context, session, wanted, who)
    await draft_request.must_be_accepted(context, target)
    async with context.session() as session:
        run = await draft_request.enqueue(context, session, target, wanted, who.name)
        await audit.note(
            session,
            request,
            "drafted a restore",
            "system",
            target.system.name,
            **target.in_audit(),
        )
        return await run_views.fresh(context, session, run)
