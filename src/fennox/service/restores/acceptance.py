"""Accepting a proved restore: from then on the target is the system, or a new one."""

from __future__ import annotations

import secrets
from typing import assert_never

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict, NotAllowed
from fennox.core.format import notes
from fennox.core.format.manifest import Machine
from fennox.core.names import folder_name
from fennox.core.restoring.sheet import Sheet
from fennox.core.time import stamp
from fennox.service.backups import note_delivery
from fennox.service.machines.context import Context
from fennox.service.people.persons import Person
from fennox.service.restores.ending import goes_on
from fennox.service.restores.requests import sheet_of
from fennox.service.systems import enrolment


async def accept(context: Context, session: AsyncSession, row: SheetRow, who: Person) -> Sheet:
    """``row`` is locked. Raises Conflict, and NotAllowed: only an administrator enrols a new
    system.
    """
    sheet = sheet_of(row)
    if not sheet.awaits_acceptance():
        raise Conflict(_why_not(sheet), "See it with `fennox restore show`.")
    system = await session.get_one(System, row.system_id, with_for_update=True)
    match sheet.purpose:
        case "repair" | "replace":
            await _becomes(session, system, row, sheet)
            system.settings = {**system.settings, **_further_login(context, sheet)}
            await _note_joined(context, session, row, sheet, who)
        case "seed":
            await _enrol(context, session, system, row, sheet, who)
        case "practise" | "return":
            raise AssertionError(f"a restore to {sheet.purpose} is never accepted")
        case _:
            assert_never(sheet.purpose)
    sheet.accepted, sheet.accepted_by = context.now(), who.name
    row.data = sheet
    await goes_on(session, system.id, row.id, now=True)
    return sheet


def _why_not(sheet: Sheet) -> str:
    if sheet.accepted is not None:
        return f"{sheet.accepted_by} accepted it at {sheet.accepted:%Y-%m-%d %H:%M} UTC."
    if sheet.state != "proved":
        return f"The restore is {sheet.state}; only a proved one can be accepted."
    return f"There is nothing to accept: nothing of {sheet.system_name} changes."


def _further_login(context: Context, sheet: Sheet) -> dict[str, str]:
    """The setting with the login of the further way, as the restored machine has it."""
    way = context.kinds.kind(sheet.kind)[0].beside
    given = sheet.secrets.get(way.login) if way is not None else None
    return {way.login: given} if way is not None and given else {}


async def _becomes(session: AsyncSession, system: System, row: SheetRow, sheet: Sheet) -> None:
    """Continue the system's backups under the new identity and address."""
    place = sheet.after.place
    if sheet.system_address not in ("", system.address):
        raise Conflict(
            f"{system.name} was at {sheet.system_address} when this restore was drafted, and is at"
            f" {system.address} now.",
            "Another restore was accepted since, or somebody moved it. Draft it again if this"
            " machine is to take its place.",
        )
    await enrolment.must_be_free(session, system.name, place.address, system.site, system.id)
    system.address, system.key = place.address, place.key
    if sheet.after.login == "target":
        system.login_id = row.target_login_id
    if system.machine is not None:
        system.machine = system.machine.model_copy(update={"id": sheet.target_machine})
    system.version += 1


async def _enrol(
    context: Context,
    session: AsyncSession,
    like: System,
    row: SheetRow,
    sheet: Sheet,
    who: Person,
) -> None:
    """Enrol the target as a new system, with kind, settings and labels of its origin."""
    if who.role != "administrator":
        raise NotAllowed("Only an administrator enrols a system.", "Ask an administrator.")
    assert sheet.new_name is not None
    place = sheet.after.place
    await enrolment.must_be_free(session, sheet.new_name, place.address, like.site)
    system_id = secrets.token_hex(16)
    session.add(
        System(
            id=system_id,
            name=sheet.new_name,
            folder=folder_name(sheet.new_name, system_id),
            kind=like.kind,
            address=place.address,
            login_id=row.target_login_id if sheet.after.login == "target" else like.login_id,
            key=place.key,
            site=like.site,
            labels=list(like.labels),
            settings={**like.settings, **_further_login(context, sheet)},
            needs=list(like.needs),
            via_id=like.via_id,
            patience=like.patience,
            machine=Machine(
                id=sheet.target_machine,
                product=sheet.target_product,
                version=sheet.target_version,
            ),
            created=context.now(),
        )
    )
    await session.flush()


async def _note_joined(
    context: Context, session: AsyncSession, row: SheetRow, sheet: Sheet, who: Person
) -> None:
    """Write the note into every store that holds the backup."""
    backup = await session.get(Backup, row.backup_id)
    if backup is None:  # a sweep removed it since
        return
    at = sheet.after.place.address
    note = notes.Note(
        fact="identity joined",
        backup=backup.id,
        system=row.system_id,
        time=stamp(context.now()),
        by=who.name,
        reason=f"the machine {sheet.target_machine} at {at} is this system now",
    )
    await note_delivery.tell(session, backup, note)
