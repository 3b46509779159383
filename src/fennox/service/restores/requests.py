"""People's requests on a run sheet: start, give up, prove, answer a gate."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import ACTIVE, IS_ACTIVE, Run, SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput, Conflict, NotFound
from fennox.core.facts.run_orders import RestoreOrder, of_kind
from fennox.core.restoring import purposes
from fennox.core.restoring.sheet import Sheet, SheetStep
from fennox.core.time import stamp
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.people.persons import Person
from fennox.service.queries.lookups import find_sheet
from fennox.service.restores import peers
from fennox.service.restores.ending import suspension
from fennox.service.runs import new_runs, progress_log, queue
from fennox.wire.restores import SheetAnswer


async def run_of(session: AsyncSession, sheet: SheetRow) -> Run | None:
    runs = (
        select(Run)
        .where(Run.sheet_id == sheet.id, Run.kind == "restore")
        .order_by(Run.created.desc())
        .limit(1)
    )
    return (await session.execute(runs)).scalars().first()


def in_audit(row: SheetRow, run: Run) -> dict[str, str]:
    """Audit details of an act on a sheet."""
    return {"sheet": row.id, "run": run.id, "purpose": row.data.purpose}


def sheet_of(row: SheetRow) -> Sheet:
    """The row records how a restore ended if its worker could not write it into the sheet."""
    return row.data.model_copy(update={"state": row.state}, deep=True)


async def hold(session: AsyncSession, sheet: str) -> SheetRow:
    """A sheet locked until the end of this transaction."""
    row = await find_sheet(session, sheet)
    await new_runs.hold_active(session, row.target_system_id)
    await session.refresh(row, with_for_update={"key_share": True})
    return row


@dataclass(frozen=True)
class Started:
    run: Run
    is_new: bool


async def start(
    context: Context,
    session: AsyncSession,
    row: SheetRow,
    who: Person,
    idempotency_key: str | None,
    *,
    return_on_failure: bool = False,
) -> Started:
    """Queue the restore; returns an active run unchanged. ``row`` is locked.
    ``return_on_failure``: its safety copy is put back if it fails. Raises Conflict.
    """
    data = sheet_of(row)
    if return_on_failure:
        _must_lead_back(data)
        data.return_on_failure = True
    _must_be_startable(data, who)
    if data.state == "not proved":
        data.begin_proof_again()
    system = await session.get_one(System, row.system_id, with_for_update=True)
    spare = await session.get_one(System, row.spare_id) if row.spare_id is not None else None
    if data.purpose == "return" and system.spare:
        spare = system  # it shows the key of the system that was practised on it
    await login_uses.must_be_nobody_elses(
        session, who, system, data.target.address, data.target.key, spare
    )
    before = await run_of(session, row)
    if before is not None and before.state in ACTIVE:
        if return_on_failure:
            raise Conflict(
                "This restore has begun; whether its safety copy is put back by itself was decided"
                " then.",
                "Wait until it ends. Then: fennox restore return",
            )
        return Started(before, is_new=False)
    if not data.begun():
        _must_still_be_meant(data, system, spare)
    row.data = data
    run = await _queued(context, session, row, who, idempotency_key)
    if purposes.suspends(data.purpose):
        system.suspended_because = suspension(row.id)
    return Started(run, is_new=True)


async def prove(
    context: Context,
    session: AsyncSession,
    row: SheetRow,
    who: Person,
    idempotency_key: str | None,
) -> Started:
    """Queue the proof and all checks; no step that changes the target is repeated. ``row`` is
    locked. Raises Conflict.
    """
    before = await run_of(session, row)
    if before is not None and before.state in ACTIVE:
        if idempotency_key is not None and before.idempotency_key == idempotency_key:
            return Started(before, is_new=False)
        raise Conflict(
            "This restore is under way: its proof comes at its end.",
            "Wait for it: fennox run follow RUN",
        )
    data = sheet_of(row)
    if "prove" not in data.acts():
        raise Conflict(
            f"This restore is {data.state}: there is nothing to prove.",
            "A proof can be repeated once the restore has come to its end.",
        )
    data.begin_proof_again()
    row.data = data
    return Started(await _queued(context, session, row, who, idempotency_key), is_new=True)


def _must_be_startable(data: Sheet, who: Person) -> None:
    blockers = data.blockers() if who.scope is None else login_uses.unnamed(data.blockers())
    if blockers:
        raise Conflict(
            f"The sheet has a blocker: {blockers[0].text}",
            blockers[0].remedy or "Remove its cause.",
        )
    if data.state == "proved":
        raise Conflict(
            "This sheet has been carried out and proved.",
            "Prove it again with `fennox restore prove`, or draft a new one.",
        )
    if data.giving_up:
        raise Conflict("This restore was given up.", "Draft a new one.")
    if released := data.released():
        raise Conflict(
            f"{released[0].released_by} ended what step {released[0].number} had begun, and the"
            " steps after it need it.",
            "Draft it anew, so that it is done again: fennox restore redraft SHEET.",
        )


def _must_lead_back(data: Sheet) -> None:
    if not any(step.do == "safety" for step in data.steps):
        raise Conflict(
            "Nothing leads back here: what the target holds is not saved.",
            "Begin without --return-on-failure, or restore onto an enrolled spare.",
        )


async def begin(context: Context, session: AsyncSession, row: SheetRow, by: str) -> Run:
    """Queue a restore that a person asked for beforehand, in the name of that person."""
    await _must_be_alone(session, row, row.data.target.address)
    return await new_runs.enqueue(
        session,
        await _order(session, row, context.now()),
        new_runs.About(system_id=row.target_system_id, sheet_id=row.id),
        by=by,
        now=context.now(),
        wait=True,
    )


async def _must_be_alone(session: AsyncSession, row: SheetRow, address: str) -> None:
    """One system's runs are sequential, but restores of two systems may have the same target."""
    await peers.must_be_alone(session, row)
    await session.execute(select(func.pg_advisory_xact_lock(func.hashtext(f"restore|{address}"))))
    others = (
        select(SheetRow.id)
        .join(Run, Run.sheet_id == SheetRow.id)
        .where(
            SheetRow.id != row.id,
            SheetRow.data["target"]["address"].astext == address,
            Run.kind == "restore",
            IS_ACTIVE,
        )
    )
    if (other := (await session.execute(others.limit(1))).scalar_one_or_none()) is not None:
        raise Conflict(
            f"Another restore is writing to {address} (run sheet {other[:12]}).",
            "Wait for it, or stop it.",
        )


def _must_still_be_meant(data: Sheet, system: System, spare: System | None) -> None:
    """System and spare may have moved or changed since the draft."""
    if data.purpose == "return":
        return
    at_own = data.target.address == system.address
    if at_own != (data.purpose == "repair"):
        raise Conflict(
            f"{system.name} is at {system.address} now, and the sheet to {data.purpose} was drafted"
            f" for {data.target.address}.",
            "Draft it again.",
        )
    if data.spare is not None and (spare is None or not spare.spare):
        raise Conflict(f"{data.spare} is no spare any more.", "Draft it again, onto a spare.")


async def undo(
    context: Context,
    session: AsyncSession,
    row: SheetRow,
    who: Person,
    idempotency_key: str | None,
) -> Run:
    """Queue the undo steps of a begun restore. ``row`` is locked. Raises Conflict."""
    data = sheet_of(row)
    if data.state in ("proved", "given up", "returned"):
        raise Conflict(f"This restore is {data.state}.", "There is nothing left to undo.")
    if data.purpose == "return":
        raise Conflict("This is the way back already.", "Continue it: fennox restore start SHEET.")
    if data.state in ("running", "waiting"):
        run = await run_of(session, row)
        stop = f"Stop it first: fennox run stop {run.id[:12]}" if run else "Reload the sheet."
        raise Conflict("This restore is still running.", stop)
    if not data.begun():
        raise Conflict(
            "This restore has changed nothing on the target.",
            "There is nothing to undo. If its routines are suspended: fennox system resume"
            f" {data.system_name}",
        )
    data.give_up(who.name, context.now())
    row.data = data
    return await _queued(context, session, row, who, idempotency_key)


async def _queued(
    context: Context,
    session: AsyncSession,
    row: SheetRow,
    who: Person,
    idempotency_key: str | None,
) -> Run:
    """Queue any run on the target: begin, continue, prove or undo. Raises Conflict."""
    await _must_be_alone(session, row, row.data.target.address)
    return await new_runs.enqueue(
        session,
        await _order(session, row, context.now()),
        new_runs.About(system_id=row.target_system_id, sheet_id=row.id),
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


async def release(session: AsyncSession, row: SheetRow, number: int, by: str) -> SheetStep:
    """By a person's word, what this step left on the target is over. ``row`` is locked. Raises
    NotFound, Conflict.
    """
    data = sheet_of(row)
    step = next((step for step in data.steps if step.number == number), None)
    if step is None:
        raise NotFound(f"The sheet has no step {number}.", "Reload the sheet.", field="step")
    run = await run_of(session, row)
    if run is not None and run.state in ACTIVE:
        raise Conflict(
            "The restore goes on; a step of its own ends what this one left.",
            f"Stop it first: fennox run stop {run.id[:12]}",
        )
    if "release" not in data.acts() or step not in data.in_force():
        raise Conflict(
            f"Nothing that step {number} left on the target is in force.",
            f"See what is: fennox restore show {row.id[:12]}",
        )
    step.released_by = by
    row.data = data
    return step


@dataclass(frozen=True)
class Answered:
    run: Run
    question: str


async def answer(
    session: AsyncSession, row: SheetRow, wanted: SheetAnswer, by: str, now: datetime
) -> Answered:
    """Answer a gate; the restore continues. ``row`` is locked. Raises NotFound, Conflict,
    BadInput.
    """
    data = row.data
    gate = next((gate for gate in data.gates if gate.number == wanted.gate), None)
    if gate is None:
        raise NotFound(f"The sheet has no gate {wanted.gate}.", "Reload the sheet.", field="gate")
    if gate.answer is not None:
        raise Conflict(f"{gate.by} has already answered: {gate.answer}.", "Reload the sheet.")
    if wanted.answer not in gate.choices:
        raise BadInput(
            f"{wanted.answer!r} is not one of the answers.",
            f"Choose one of: {', '.join(gate.choices)}.",
            field="answer",
        )
    run = await run_of(session, row)
    if run is None or run.state != "waiting":
        raise Conflict("The restore is not waiting for an answer.", "Follow its run.")
    gate.answer, gate.by, gate.at = wanted.answer, by, now
    row.data = data
    # continuing after an answer is not another attempt
    again = {"state": "queued", "reason": "", "remedy": "", "attempt": Run.attempt - 1}
    await session.execute(update(Run).where(Run.id == run.id, IS_ACTIVE).values(again))
    await progress_log.announce(session, run.id)
    await queue.call_workers(session)
    return Answered(run, gate.question)
