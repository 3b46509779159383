"""Comparing backups."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import JSONResponse

from fennox.catalogue.models.systems import System
from fennox.core.compare.patching import as_patch
from fennox.service.access_control import audit
from fennox.service.backups import comparison, value_history
from fennox.service.http import access
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context, named
from fennox.service.people.persons import Person
from fennox.wire.comparing import Compared, CompareWanted, Traced, TraceWanted

router = api_router("backups")


class Patch(JSONResponse):
    media_type = "application/json-patch+json"


@router.post("/comparisons")
async def compare_backups(
    wanted: CompareWanted, request: Request, context: Here, who: Who
) -> Compared:
    """Compare two backups, a system's newest backup with an earlier one, or a backup with the live
    system. Reads the live system while the caller waits and keeps nothing of it.
    """
    return await _compared(context, wanted, request, who, patches=False)


@router.post("/comparisons/patch", response_class=Patch)
async def compare_as_patch(
    wanted: CompareWanted, request: Request, context: Here, who: Who
) -> Patch:
    """The same as one JSON Patch (RFC 6902) on an object part → document → attributes and
    content.
    """
    return Patch(
        as_patch((await _compared(context, wanted, request, who, patches=True)).comparison)
    )


async def _compared(
    context: Context, wanted: CompareWanted, request: Request, who: Person, *, patches: bool
) -> Compared:
    async with context.session() as session:
        sides = await comparison.sides(session, wanted)
        access.may_see(who, sides.system.kind)
        before = sides.before.id[:12]
        after = sides.after.id[:12] if sides.after is not None else "the live system"
        await audit.note(
            session, request, "compared", "system", sides.system.name, before=before, after=after
        )
    return await comparison.compared(context, sides, wanted, patches=patches)


@router.post("/traces")
async def trace_value(wanted: TraceWanted, request: Request, context: Here, who: Who) -> Traced:
    """Follow a document, a value in it, or a census list through all backups of a system."""
    value_history.question_of(wanted)
    async with context.session() as session:
        system = await named(session, System, wanted.system)
        access.may_see(who, system.kind)
        what = wanted.document or str(wanted.list)
        await audit.note(session, request, "traced", "system", system.name, what=what)
    return await value_history.history(context, system, wanted)
