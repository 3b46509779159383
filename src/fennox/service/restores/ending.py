"""Ending a restore: proved or given up, and which machine is the system afterwards."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Run, SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.run_results import RestoreResult, UndoResult
from fennox.core.format import notes
from fennox.core.restoring.sheet import Sheet
from fennox.core.time import stamp
from fennox.service.machines.context import Context
from fennox.service.restores.material import Material
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease


def suspension(sheet_id: str) -> str:
    """Why a system's routines pause meanwhile."""
    return f"a restore is active (run sheet {sheet_id[:12]})"


async def ask_to_stop(session: AsyncSession, run_id: str, now: datetime) -> Run:
    """As :func:`queue.ask_to_stop`; also stops the sheet of a restore that stops immediately, and
    says for which step another waits.
    """
    run = await queue.ask_to_stop(session, run_id, now)
    if run.kind != "restore" or not run.sheet_id:
        return run
    row = await session.get_one(SheetRow, run.sheet_id)
    if run.state == "stopped":
        row.state = "stopped"
    for step in row.data.steps:
        if run.state == "running" and step.state == "doing" and not step.stoppable:
            run.reason = f"It stops after this step, which cannot be stopped: {step.title}."
    return run


def unaccepted(sheet_id: str) -> str:
    """Why a system's routines pause once its restore is proved."""
    return f"a proved restore waits to be accepted (run sheet {sheet_id[:12]})"


async def goes_on(session: AsyncSession, system_id: str, sheet_id: str, *, now: bool) -> None:
    """Resume the routines paused for this restore, or keep them paused until it is accepted. A
    person's suspension stays.
    """
    system = await session.get_one(System, system_id, with_for_update=True)
    if system.suspended_because in (suspension(sheet_id), unaccepted(sheet_id)):
        system.suspended_because = "" if now else unaccepted(sheet_id)


async def close_run(
    context: Context, lease: Lease, sheet_id: str, sheet: Sheet, material: Material
) -> None:
    now = context.now()
    async with context.session() as session:
        run = await queue.owned(session, lease)
        if sheet.state == "waiting":
            gate = sheet.open_gate()
            run.reason = gate.question if gate else ""
            run.remedy = f"Answer with `fennox restore answer {sheet_id[:12]}`."
            await queue.end(session, run, "waiting", now)
            return
        if sheet.state == "given up":
            await _given_up(session, run, sheet)
            await queue.end(session, run, "done", now)
            return
        assert sheet.proof is not None
        missing = sum(len(item.missing) for item in sheet.proof.lists)
        run.result = RestoreResult(sheet=sheet_id, proved=sheet.proof.proved, missing=missing)
        run.reason = run.remedy = ""
        if sheet.state == "proved" and sheet.returns is not None:
            returned = await _came_back(session, sheet)
            if returned is not None:
                await goes_on(session, returned.system_id, returned.id, now=True)
        elif sheet.state == "proved":
            accepted = not sheet.awaits_acceptance()
            await goes_on(session, sheet.system, sheet_id, now=accepted)
            if not accepted:
                run.remedy = f"Accept it: fennox restore accept {sheet_id[:12]}"
        else:
            _not_proved(run, sheet)
        await queue.end(session, run, "done" if sheet.state == "proved" else "failed", now)
    if sheet.state == "proved" and sheet.purpose not in ("practise", "return"):
        await _note_proof(sheet, material, by=sheet_id, time=stamp(now))


async def _came_back(session: AsyncSession, sheet: Sheet) -> SheetRow | None:
    """Mark the restore that was returned; None: it was forgotten meanwhile."""
    row = await session.get(SheetRow, sheet.returns, with_for_update=True)
    if row is not None:
        row.data = row.data.model_copy(update={"state": "returned"})
        row.state = "returned"
    return row


def _not_proved(run: Run, sheet: Sheet) -> None:
    run.reason = "The restore was done, but its proof failed: see what is missing on the sheet."
    run.remedy = (
        f"Fix what is missing, then prove it again: fennox restore prove {str(run.sheet_id)[:12]}."
    )
    if sheet.safety is not None:
        run.remedy += f" {_way_back(run, sheet)}"
    run.problem = "not-proved"


def _way_back(run: Run, sheet: Sheet) -> str:
    held = f"What the target held before is the safety copy {str(sheet.safety)[:12]}."
    back = f" Put it back: fennox restore return {str(run.sheet_id)[:12]}."
    return f"{held}{back if not sheet.no_way_back() else ''}"


async def _note_proof(sheet: Sheet, material: Material, *, by: str, time: str) -> None:
    """Write a note into the backup's store. Practice leaves stores unchanged."""
    note = notes.Note(
        fact="proved",
        backup=material.backup.id,
        system=material.system.id,
        time=time,
        by=by,
        reason=f"restored onto {sheet.after.place.address} and proved",
    )
    await material.reader.vault.write_note(note, material.reader.record.reference)


async def _given_up(session: AsyncSession, run: Run, sheet: Sheet) -> None:
    """The system continues as before. Lists what remains on the target, with the way back."""
    await goes_on(session, sheet.system, str(run.sheet_id), now=True)
    run.result = UndoResult(
        sheet=str(run.sheet_id), undone=sum(step.state == "done" for step in sheet.undo)
    )
    stays = sheet.staying()
    run.reason = run.remedy = ""
    if stays:
        run.reason = f"What was done by this stays on the target: {'; '.join(stays)}."
        if sheet.safety is not None:
            run.remedy = _way_back(run, sheet)
