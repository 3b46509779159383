"""Routines and the preview of their ladders."""

from __future__ import annotations

from fastapi import Header, Request, Response

from fennox.catalogue.models.runs import Routine
from fennox.service.access_control import audit
from fennox.service.http.edit_conflicts import check_match, etag
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context, locked, named
from fennox.service.retention import forecast, routine_changes
from fennox.service.views import routines as routine_views
from fennox.wire.base import Page
from fennox.wire.routines import Coming, NewRoutine, RoutineChange, RoutinePreview, RoutineShown

router = api_router("routines")


async def _check_schedule(context: Context, when: str, zone: str) -> None:
    await context.evaluators.check_schedule(routine_changes.phrase(when), zone)


@router.get("/routines")
async def list_routines(context: Here) -> Page[RoutineShown]:
    """All routines."""
    async with context.session() as session:
        return await routine_views.all_routines(context, session)


@router.post("/routines", status_code=201)
async def add_routine(
    wanted: NewRoutine, request: Request, context: Here, who: Who
) -> RoutineShown:
    """Create a routine; it starts with its next due time."""
    await _check_schedule(context, wanted.when, wanted.zone)
    async with context.session() as session:
        row = await routine_changes.new_routine(context, session, wanted)
        await routine_changes.add(session, row)
        await audit.note(
            session, request, "added", "routine", row.name, when=row.when, systems=row.systems
        )
        if wanted.run_now:
            await routine_changes.take_now(context, session, row, who.name)
        return await routine_views.shown(context, session, row)


@router.get("/routines/coming")
async def coming_runs(context: Here) -> Coming:
    """The load of the coming two weeks by hour, and runs that will have to wait for another run of
    their system.
    """
    async with context.session() as session:
        return await forecast.coming(context, session)


@router.get("/routines/calendar", response_class=Response)
async def calendar_of_runs(context: Here) -> Response:
    """Coming runs as an iCalendar (RFC 5545), one event per routine and due time."""
    async with context.session() as session:
        return Response(await forecast.calendar(context, session), media_type="text/calendar")


@router.post("/routines/preview")
async def preview_new(wanted: NewRoutine, context: Here) -> RoutinePreview:
    """What a routine would do, before it is saved."""
    await _check_schedule(context, wanted.when, wanted.zone)
    async with context.session() as session:
        row = await routine_changes.new_routine(context, session, wanted)
        return await routine_views.preview(context, session, row)


@router.get("/routines/{name}")
async def show_routine(name: str, response: Response, context: Here) -> RoutineShown:
    """One routine. Send its ETag with changes."""
    async with context.session() as session:
        row = await named(session, Routine, name)
        response.headers["etag"] = etag(row.version)
        return await routine_views.shown(context, session, row)


@router.patch("/routines/{name}")
async def change_routine(
    name: str,
    wanted: RoutineChange,
    request: Request,
    context: Here,
    if_match: str | None = Header(default=None),
) -> RoutineShown:
    """Change a routine, switch it on or off, or make it manual on purpose."""
    if wanted.when is not None:
        await _check_schedule(context, wanted.when, wanted.zone or "UTC")
    async with context.session() as session:
        row = await locked(session, Routine, name)
        check_match(if_match, row.version)
        await routine_changes.change(session, row, wanted, context.now())
        changed = ", ".join(wanted.model_fields_set)
        await audit.note(session, request, "changed", "routine", row.name, what=changed)
        return await routine_views.shown(context, session, row)


@router.delete("/routines/{name}", status_code=204)
async def remove_routine(name: str, request: Request, context: Here) -> None:
    """Remove a routine; its backups stay."""
    async with context.session() as session:
        row = await routine_changes.remove(session, name)
        await audit.note(session, request, "removed", "routine", row.name)


@router.get("/routines/{name}/preview")
async def preview_routine(name: str, context: Here, system: str | None = None) -> RoutinePreview:
    """The next runs, and what keeps each backup of its first systems or of one system."""
    async with context.session() as session:
        row = await named(session, Routine, name)
        return await routine_views.preview(context, session, row, system)
