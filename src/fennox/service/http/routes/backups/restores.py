"""Restores: draft, look, start, answer."""

from __future__ import annotations

import secrets
from datetime import datetime

from fastapi import APIRouter, Header, Request
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import ACTIVE, IS_ACTIVE, Run, SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput, Conflict, NotFound, PersonNeeded
from fennox.core.facts.run_orders import RestoreOrder, of_kind
from fennox.core.restoring.plan_inputs import at_another_machine, left_out_essentials
from fennox.core.restoring.sheet import Sheet
from fennox.core.time import stamp
from fennox.service.access_control import audit
from fennox.service.http.routes.backups.restore_views import run_of, sheet_of, shown
from fennox.service.http.routes.backups.runs import run_shown
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.queries.lookups import find_sheet
from fennox.service.queries.paging import After, Limit, newest_first
from fennox.service.restores.ending import suspension
from fennox.service.runs import new_runs, progress_log, queue
from fennox.wire.base import Page
from fennox.wire.restores import RestoreShown, SheetAnswer, SheetShown, SheetStart
from fennox.wire.runs import RunShown

router = APIRouter(tags=["restores"])


@router.get("/restores")
async def list_restores(
    context: Here, limit: Limit = 50, after: After = None
) -> Page[RestoreShown]:
    """Run sheets, newest first."""
    async with context.session() as session:
        rows, cursor = await newest_first(
            session, select(SheetRow), [SheetRow.created, SheetRow.id], limit, after
        )
        items = []
        for row in rows:
            run = await run_of(session, row)
            proof = row.data.proof
            items.append(
                RestoreShown(
                    id=row.id,
                    system=row.data.system_name,
                    backup=row.backup_id,
                    state=row.state,
                    created=row.created,
                    by=row.by,
                    run=run.id if run else None,
                    proved=proof.proved if proof else None,
                )
            )
        return Page(items=items, after=cursor)


@router.get("/restores/{sheet}")
async def show_restore(sheet: str, context: Here) -> SheetShown:
    """One run sheet, with the state of each step, its gates and its proof."""
    async with context.session() as session:
        return await shown(session, await find_sheet(session, sheet))


async def _held(session: AsyncSession, sheet: str) -> SheetRow:
    """A sheet that only this request changes, until its transaction ends."""
    row = await find_sheet(session, sheet)
    await new_runs.hold_active(session, row.system_id)
    await session.refresh(row, with_for_update={"key_share": True})
    return row


@router.post("/restores/{sheet}/start", status_code=202)
async def start_restore(
    sheet: str,
    request: Request,
    context: Here,
    who: Who,
    wanted: SheetStart | None = None,
    idempotency_key: str | None = Header(default=None),
) -> RunShown:
    """Do exactly what the sheet says; a failed or stopped one goes on where it was, one not proved
    is proved anew.
    """
    async with context.session() as session:
        row = await _held(session, sheet)
        data = sheet_of(row)
        blockers = data.blockers() if who.scope is None else login_uses.unnamed(data.blockers())
        if blockers:
            raise Conflict(
                f"The sheet has a blocker: {blockers[0].text}",
                blockers[0].remedy or "Remove the reason.",
            )
        if data.state == "proved":
            raise Conflict("This sheet has been done.", "Draft a new one.")
        if data.giving_up:
            raise Conflict("This restore was given up.", "Draft a new one.")
        if data.state == "not proved":
            data.begin_proof_again()
        system = await session.get_one(System, row.system_id, with_for_update=True)
        await login_uses.must_be_nobody_elses(
            session, who, system, data.target.address, data.target.key
        )
        kind, _ = context.kinds.kind(system.kind)
        before = await run_of(session, row)
        goes_on = before is not None and before.state in ACTIVE
        if not data.begun() and not goes_on:  # the system may have moved since the draft
            there = data.target.address
            data.at_another_machine = at_another_machine(kind, data.parts, there, system.address)
        _decide_takeover(
            data, system, wanted.takeover if wanted is not None else None, settled=goes_on
        )
        if before is not None and goes_on:
            return await run_shown(context, session, before)
        row.data = data
        run = await _queued(session, row, context, who, idempotency_key)
        here = data.target.address == system.address
        if here or (data.takes_over is not False and not left_out_essentials(kind, data.parts)):
            system.suspended_because = suspension(row.id)
        takeover = {"takeover": str(data.takes_over).lower()} if data.at_another_machine else {}
        await audit.note(
            session,
            request,
            "started a restore",
            "system",
            data.system_name,
            sheet=row.id,
            run=run.id,
            **takeover,
        )
        await session.refresh(run)
        return await run_shown(context, session, run)


def _decide_takeover(data: Sheet, system: System, said: bool | None, *, settled: bool) -> None:
    """A restore never makes another machine the system without a person's word for it.

    ``settled``: it goes on already, and nothing can be said otherwise.
    """
    if not data.at_another_machine:
        if said:
            raise BadInput(
                "This restore makes no other machine the system.", "Leave it out.", field="takeover"
            )
        return
    if data.takes_over is None or (said is not None and not settled and not data.begun()):
        data.takes_over = said
    if said is not None and data.takes_over != said:
        raise Conflict(
            "It was said otherwise when this restore began.",
            "Go on as it was begun, or draft a new one.",
        )
    if data.takes_over is None:
        raise PersonNeeded(
            f"This machine, at {data.target.address}, becomes {system.name}; {system.name}'s own"
            f" machine at {system.address} is no longer watched.",
            "Say --takeover if that is so; with --no-takeover the system stays what it is.",
            field="takeover",
        )
    if not data.takes_over and data.after.place.address == system.address:
        raise Conflict(
            f"The restore gives the target the address of {system.name} itself, {system.address}.",
            "Without a takeover two machines would answer there. Restore parts that do not set it:"
            " --part NAME.",
            field="takeover",
        )


@router.post("/restores/{sheet}/undo", status_code=202)
async def undo_restore(
    sheet: str,
    request: Request,
    context: Here,
    who: Who,
    idempotency_key: str | None = Header(default=None),
) -> RunShown:
    """Give a restore up that has begun: what can be undone is, by the steps that the sheet
    shows.
    """
    async with context.session() as session:
        row = await _held(session, sheet)
        data = sheet_of(row)
        if data.state in ("proved", "given up"):
            raise Conflict(f"This restore is {data.state}.", "Nothing is left to be undone.")
        if data.state in ("running", "waiting"):
            run = await run_of(session, row)
            remedy = (
                f"Stop it first: fennox run stop {run.id[:12]}"
                if run
                else "Look at the sheet again."
            )
            raise Conflict("This restore goes on.", remedy)
        if not data.begun():
            remedy = (
                "There is nothing to undo. If its routines stand still: fennox system resume"
                f" {data.system_name}"
            )
            raise Conflict("Nothing of this restore was begun on the target.", remedy)
        data.give_up(who.name, context.now())
        row.data = data
        run = await _queued(session, row, context, who, idempotency_key)
        await audit.note(
            session,
            request,
            "gave a restore up",
            "system",
            data.system_name,
            sheet=row.id,
            run=run.id,
        )
        await session.refresh(run)
        return await run_shown(context, session, run)


async def _queued(
    session: AsyncSession, row: SheetRow, context: Context, who: Who, idempotency_key: str | None
) -> Run:
    return await new_runs.enqueue(
        session,
        await _order(session, row, context.now()),
        new_runs.About(system_id=row.system_id, sheet_id=row.id),
        by=who.name,
        now=context.now(),
        idempotency_key=f"{who.name}:{idempotency_key}" if idempotency_key else None,
        wait=True,
    )


async def _order(session: AsyncSession, row: SheetRow, now: datetime) -> RestoreOrder:
    """Id and time of the safety copy are fixed when the restore is first queued."""
    before = await run_of(session, row)
    if before is not None:
        return of_kind(before.order, RestoreOrder)
    return RestoreOrder(safety_backup=secrets.token_hex(16), safety_time=stamp(now))


@router.post("/restores/{sheet}/answer", status_code=202)
async def answer_gate(
    sheet: str, wanted: SheetAnswer, request: Request, context: Here, who: Who
) -> RunShown:
    """Answer a gate; the restore goes on."""
    async with context.session() as session:
        row = await _held(session, sheet)
        data = row.data
        gate = next((gate for gate in data.gates if gate.number == wanted.gate), None)
        if gate is None:
            raise NotFound(
                f"The sheet has no gate {wanted.gate}.", "Look at the sheet again.", field="gate"
            )
        if gate.answer is not None:
            raise Conflict(
                f"{gate.by} has already answered: {gate.answer}.", "Look at the sheet again."
            )
        if wanted.answer not in gate.choices:
            raise BadInput(
                f"{wanted.answer!r} is no answer.",
                f"Say one of: {', '.join(gate.choices)}.",
                field="answer",
            )
        run = await run_of(session, row)
        if run is None or run.state != "waiting":
            raise Conflict("The restore does not wait for an answer.", "Follow its run.")
        gate.answer, gate.by, gate.at = wanted.answer, who.name, context.now()
        row.data = data
        # going on after an answer is no further attempt
        again = {"state": "queued", "reason": "", "remedy": "", "attempt": Run.attempt - 1}
        await session.execute(update(Run).where(Run.id == run.id, IS_ACTIVE).values(again))
        await progress_log.announce(session, run.id)
        await queue.call_workers(session)
        await audit.note(
            session,
            request,
            "answered a gate",
            "system",
            data.system_name,
            question=gate.question[:200],
            answer=wanted.answer,
        )
        await session.refresh(run)
        return await run_shown(context, session, run)
