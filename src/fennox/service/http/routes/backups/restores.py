"""Restores: listing, starting, undoing, answering gates."""

from __future__ import annotations

from fastapi import Header, Request

from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.queries.lookups import find_sheet
from fennox.service.queries.paging import After, Limit
from fennox.service.restores import acceptance, redraft, requests, returning
from fennox.service.views import runs as run_views
from fennox.service.views import sheets
from fennox.wire.base import Page
from fennox.wire.restores import (
    Redraft,
    RestoreShown,
    RestoreStart,
    SheetAnswer,
    SheetShown,
    StepReleased,
)
from fennox.wire.watch.runs import RunShown

router = api_router("restores")


@router.get("/restores")
async def list_restores(
    context: Here, limit: Limit = 50, after: After = None
) -> Page[RestoreShown]:
    """Run sheets, newest first."""
    async with context.session() as session:
        return await sheets.page(session, limit, after)


@router.get("/restores/{sheet}")
async def show_restore(sheet: str, context: Here) -> SheetShown:
    """One run sheet, with the state of each step, its gates and its proof."""
    async with context.session() as session:
        return await sheets.shown(session, await find_sheet(session, sheet))


@router.post("/restores/{sheet}/start", status_code=202)
async def start_restore(
    sheet: str,
    request: Request,
    context: Here,
    who: Who,
    wanted: RestoreStart | None = None,
    idempotency_key: str | None = Header(default=None),
) -> RunShown:
    """Execute the sheet exactly. A failed or stopped restore continues where it stopped; an
    unproved one is proved again.
    """
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        started = await requests.start(
            context,
            session,
            row,
            who,
            idempotency_key,
            return_on_failure=wanted is not None and wanted.return_on_failure,
        )
        if started.is_new:
            await audit.note(
                session,
                request,
                "started a restore",
                "system",
                row.data.system_name,
                **requests.in_audit(row, started.run),
            )
        return await run_views.fresh(context, session, started.run)


@router.post("/restores/{sheet}/prove", status_code=202)
async def prove_restore(
    sheet: str,
    request: Request,
    context: Here,
    who: Who,
    idempotency_key: str | None = Header(default=None),
) -> RunShown:
    """Prove a restore again: runs all checks and the census, but no step that changes
    the target.
    """
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        started = await requests.prove(context, session, row, who, idempotency_key)
        if not started.is_new:
            return await run_views.fresh(context, session, started.run)
        await audit.note(
            session,
            request,
            "proved a restore again",
            "system",
            row.data.system_name,
            **requests.in_audit(row, started.run),
        )
        return await run_views.fresh(context, session, started.run)


@router.post("/restores/{sheet}/accept")
async def accept_restore(sheet: str, request: Request, context: Here, who: Who) -> SheetShown:
    """Accept a proved restore: the target becomes the system, or a seed's new system."""
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        accepted = await acceptance.accept(context, session, row, who)
        await audit.note(
            session,
            request,
            "accepted a restore",
            "system",
            accepted.new_name or accepted.system_name,
            sheet=row.id,
            purpose=accepted.purpose,
            at=accepted.after.place.address,
            machine=accepted.target_machine,
        )
        return await sheets.shown(session, row)


@router.post("/restores/{sheet}/undo", status_code=202)
async def undo_restore(
    sheet: str,
    request: Request,
    context: Here,
    who: Who,
    idempotency_key: str | None = Header(default=None),
) -> RunShown:
    """Give up a begun restore: runs the undo steps that the sheet shows."""
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        run = await requests.undo(context, session, row, who, idempotency_key)
        await audit.note(
            session,
            request,
            "gave a restore up",
            "system",
            row.data.system_name,
            **requests.in_audit(row, run),
        )
        return await run_views.fresh(context, session, run)


@router.post("/restores/{sheet}/redraft", status_code=202)
async def redraft_restore(
    sheet: str, wanted: Redraft, request: Request, context: Here, who: Who
) -> RunShown:
    """Draft a sheet anew, with other choices or by the present kind. What is done stays done.
    Changes nothing on the target.
    """
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        drafting = await redraft.request(context, session, row, wanted.place, who)
        await audit.note(
            session,
            request,
            "drafted a restore anew",
            "system",
            row.data.system_name,
            **requests.in_audit(row, drafting.run),
        )
        return await run_views.fresh(context, session, drafting.run)


@router.post("/restores/{sheet}/return", status_code=202)
async def return_restore(sheet: str, request: Request, context: Here, who: Who) -> RunShown:
    """Draft the way back: a run sheet that puts the safety copy back. Start that sheet afterwards.
    Changes nothing.
    """
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        drafting = await returning.request(context, session, row, who.name, begin=False)
        await audit.note(
            session,
            request,
            "drafted the way back of a restore",
            "system",
            row.data.system_name,
            **requests.in_audit(row, drafting.run),
        )
        return await run_views.fresh(context, session, drafting.run)


@router.post("/restores/{sheet}/release")
async def release_step(
    sheet: str, wanted: StepReleased, request: Request, context: Here, who: Who
) -> SheetShown:
    """Say that what a step left on the target is over: a special state, a hold, or access that was
    opened. Changes nothing on the target.
    """
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        step = await requests.release(session, row, wanted.step, who.name)
        assert step.meanwhile is not None
        await audit.note(
            session,
            request,
            "released a step",
            "system",
            row.data.system_name,
            sheet=row.id,
            step=step.title,
            meanwhile=step.meanwhile.says,
        )
        return await sheets.shown(session, row)


@router.post("/restores/{sheet}/answer", status_code=202)
async def answer_gate(
    sheet: str, wanted: SheetAnswer, request: Request, context: Here, who: Who
) -> RunShown:
    """Answer a gate; the restore continues."""
    async with context.session() as session:
        row = await requests.hold(session, sheet)
        answered = await requests.answer(session, row, wanted, who.name, context.now())
        await audit.note(
            session,
            request,
            "answered a gate",
            "system",
            row.data.system_name,
            question=answered.question[:200],
            answer=wanted.answer,
        )
        return await run_views.fresh(context, session, answered.run)
