"""The way back: a restore's safety copy is put back, by a run sheet of its own."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import ACTIVE, Run, SheetRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import Conflict, NotFound
from fennox.core.facts.run_orders import Aim, DraftOrder
from fennox.core.kinds.filling import filled_in
from fennox.core.kinds.model import Kind
from fennox.core.restoring import plan_inputs
from fennox.core.restoring.plan_inputs import Target
from fennox.core.restoring.plan_steps import WayBack
from fennox.core.restoring.sheet import Sheet
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.restoring.placed_backup import PlacedBackup, added_by
from fennox.service.machines.context import Context
from fennox.service.restores.material import Material
from fennox.service.restores.requests import Started, run_of, sheet_of
from fennox.service.runs import new_runs


async def request(
    context: Context, session: AsyncSession, row: SheetRow, by: str, *, begin: bool
) -> Started:
    """Queue the draft of the way back. ``row`` is locked. ``begin``: it is begun as soon as it is
    drafted. Raises Conflict.
    """
    before = await run_of(session, row)
    if not begin and before is not None and before.state in ACTIVE:
        raise Conflict(
            "This restore is still running.", f"Stop it first: fennox run stop {before.id[:12]}"
        )
    data = sheet_of(row)
    if not data.can_return() and not (begin and data.begun()):
        raise Conflict(*_why_not(data))
    backup = await session.get(Backup, data.safety)
    if backup is None:
        raise Conflict(
            "The safety copy of this restore is not in the catalogue any more.",
            "See whether a store still holds it: fennox store adopt STORE",
        )
    return Started(await _queue(context, session, row, data, by, begin=begin), is_new=True)


def _why_not(sheet: Sheet) -> tuple[str, str]:
    if sheet.accepted is not None:
        return (
            f"{sheet.accepted_by} has accepted this restore.",
            "Restore an earlier backup of the system instead.",
        )
    if sheet.state == "returned":
        return "This restore was returned already.", "Draft a new one."
    if passed := sheet.no_way_back():
        return f"Nothing leads back after: {'; '.join(passed)}.", "Continue with the sheet."
    if not sheet.begun():
        return "This restore has changed nothing on the target.", "There is nothing to return."
    if sheet.safety is None:
        return (
            "What the target held was not saved, as it is no enrolled system.",
            "Install it anew.",
        )
    return f"This restore is {sheet.state}.", "Wait until it has ended."


async def _queue(
    context: Context,
    session: AsyncSession,
    row: SheetRow,
    sheet: Sheet,
    by: str,
    *,
    begin: bool,
) -> Run:
    assert sheet.safety is not None
    order = DraftOrder(
        backup=sheet.safety,
        target=await aim_now(session, row, sheet),
        entrance=await entrance_of(session, row, sheet),
        purpose="return",
        returns=row.id,
        begin=begin,
    )
    return await new_runs.enqueue(
        session,
        order,
        new_runs.About(system_id=row.target_system_id),
        by=by,
        now=context.now(),
        wait=True,
    )


async def aim_now(session: AsyncSession, row: SheetRow, sheet: Sheet) -> Aim:
    """Where the target answers by now, and by which login."""
    system = await session.get_one(System, row.system_id)
    by_system = sheet.rejoined and sheet.after.login == "system"
    place = sheet.after.place if sheet.rejoined else sheet.target
    login = row.after_login_id or system.login_id if by_system else row.target_login_id
    return Aim(login=str(login), address=place.address, key=place.key)


async def entrance_of(session: AsyncSession, row: SheetRow, sheet: Sheet) -> Aim | None:
    if sheet.entrance is None or row.entrance_login_id is None:
        return None
    login = await session.get_one(Login, row.entrance_login_id)
    return Aim(login=login.id, address=sheet.entrance.address, key=sheet.entrance.key)


async def way_back(
    row: SheetRow, material: Material, kind: Kind, target: Target, evaluates: Evaluates
) -> WayBack:
    """What is undone first, and which documents the restore added. ``material``: of its safety
    copy, which lies in the store that the restore read from.
    """
    sheet, vault = row.data, material.reader.vault
    written = plan_inputs.written_parts(kind, sheet.parts)
    try:
        record = await vault.find_record(row.backup_id)
    except NotFound:  # its backup is gone: its sheet names as many as it shows
        return WayBack(row.id, sheet.to_undo(), [*sheet.overwrites.added, *sheet.made()])
    reader = BackupReader(vault, material.reader.index, record)
    backup = PlacedBackup(reader, filled_in(kind, sheet.settings), sheet.placed, evaluates)
    added = await added_by(backup, material.reader, target, written)
    return WayBack(row.id, sheet.to_undo(), [*added, *sheet.made()])
