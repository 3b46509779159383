"""How a restore ends: proved, given up, and who is the system from then on."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Run, SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.run_results import RestoreResult, UndoResult
from fennox.core.format import notes
from fennox.core.restoring import plan_inputs
from fennox.core.restoring.sheet import Sheet
from fennox.core.time import stamp
from fennox.service.machines.context import Context
from fennox.service.restores.material import Material
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease


def suspension(sheet_id: str) -> str:
    """Why a system's routines stand still meanwhile."""
    return f"a restore is active (run sheet {sheet_id[:12]})"


async def ask_to_stop(session: AsyncSession, run_id: str, now: datetime) -> Run:
    """As :func:`queue.ask_to_stop`; the sheet of a restore that stops at once is stopped too."""
    run = await queue.ask_to_stop(session, run_id, now)
    if run.kind == "restore" and run.state == "stopped" and run.sheet_id:
        (await session.get_one(SheetRow, run.sheet_id)).state = "stopped"
    return run


async def _goes_on(session: AsyncSession, run: Run) -> None:
    """The routines that stood still for this restore do so no longer; what a person suspended stays
    so.
    """
    system = await session.get_one(System, run.system_id, with_for_update=True)
    if system.suspended_because == suspension(str(run.sheet_id)):
        system.suspended_because = ""


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
        joins = _becomes_the_system(context, sheet)
        if joins:
            await _join_identity(session, run, sheet)
        if sheet.state == "proved":
            await _goes_on(session, run)
        else:
            _not_proved(run, sheet)
        await queue.end(session, run, "done" if sheet.state == "proved" else "failed", now)
    if sheet.state == "proved":
        await _note_proof(sheet, material, joins=joins, by=sheet_id, time=stamp(now))


def _not_proved(run: Run, sheet: Sheet) -> None:
    run.reason = "The restore was done, but its proof failed: see what is missing on the sheet."
    run.remedy = (
        "Mend what is missing, then prove it again: fennox restore start"
        f" {str(run.sheet_id)[:12]}. What the target held before is the safety copy"
        f" {(sheet.safety or '')[:12]}."
    )
    run.problem = "not-proved"


async def _note_proof(sheet: Sheet, material: Material, *, joins: bool, by: str, time: str) -> None:
    """Into the store that the backup came from; ``joins``: the target is the system now."""
    at = sheet.after.place.address
    facts: list[tuple[notes.Fact, str]] = [("proved", f"restored onto {at} and proved")]
    if joins:
        joined = f"the machine {sheet.target_machine} at {at} is this system now"
        facts.append(("identity joined", joined))
    for fact, reason in facts:
        note = notes.Note(
            fact=fact,
            backup=material.backup.id,
            system=material.system.id,
            time=time,
            by=by,
            reason=reason,
        )
        await material.reader.vault.write_note(note, material.reader.record.reference)


async def _given_up(session: AsyncSession, run: Run, sheet: Sheet) -> None:
    """The system goes on as it was. What stays on the target is listed with the way back."""
    await _goes_on(session, run)
    run.result = UndoResult(
        sheet=str(run.sheet_id), undone=sum(step.state == "done" for step in sheet.undo)
    )
    stays = sheet.staying()
    run.reason = run.remedy = ""
    if stays:
        run.reason = f"What was done by this stays on the target: {'; '.join(stays)}."
        run.remedy = (
            f"Put back what it held before: fennox restore draft {(sheet.safety or '')[:12]}"
        )


def _becomes_the_system(context: Context, sheet: Sheet) -> bool:
    """A proved restore of all essential parts, unless a person said that the system stays what it
    is.

    A machine that only got some of them stays what it is in any case.
    """
    kind, _ = context.kinds.kind(sheet.kind)
    whole = sheet.rejoined and not plan_inputs.left_out_essentials(kind, sheet.parts)
    return (
        sheet.state == "proved"
        and whole
        and (sheet.takes_over is True or not sheet.at_another_machine)
    )


async def _join_identity(session: AsyncSession, run: Run, sheet: Sheet) -> None:
    """A reinstalled machine stays the same system: its backups go on under the new identity and
    place.
    """
    system = await session.get_one(System, run.system_id, with_for_update=True)
    system.address, system.key = sheet.after.place.address, sheet.after.place.key
    if system.machine is not None:
        system.machine = system.machine.model_copy(update={"id": sheet.target_machine})
    system.version += 1
