"""Reading the present identity of an enrolled system's machine, and confirming it as the system."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, FennoxError, NotFound
from fennox.core.format.manifest import Machine
from fennox.engine.reading.capture import identify
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.systems.kinds import parts_of
from fennox.wire.machines.enrolling import Probe


async def login_of(session: AsyncSession, row: System) -> Login | None:
    return await session.get_one(Login, row.login_id) if row.login_id else None


async def probe(context: Context, row: System, login: Login | None) -> Probe:
    """Keeps nothing. Raises BadInput for a system without a connection."""
    kind, _ = context.kinds.kind(row.kind)
    if not kind.is_reached:
        raise BadInput(
            f"{row.name} is not reached: what it has is handed in, or it pushes by itself.",
            "See: fennox backup hand-in, fennox drop show",
        )
    known = row.machine.id if row.machine else None
    try:
        link = await context.machines.connect(
            kind, login_uses.of_system(kind, row, login), way_to(row)
        )
        try:
            machine = await identify(kind, link, dict(row.settings))
        finally:
            await link.close()
    except FennoxError as error:
        return Probe(
            reached=False,
            fingerprint=str(error.fields.get("fingerprint") or ""),
            fingerprint_known=False,
            machine=None,
            same_machine=None,
            parts=parts_of(kind),
            problem=error.what,
            remedy=error.remedy,
        )
    return Probe(
        reached=True,
        fingerprint=link.fingerprint,
        fingerprint_known=True,
        machine=machine,
        same_machine=machine.id == known if known else None,
        parts=parts_of(kind),
    )


def confirm_by_hand(row: System, machine: str) -> None:
    """For a system without a connection; the rest comes with hand-ins."""
    before = row.machine or Machine(id=machine, product="", version="")
    row.machine = before.model_copy(update={"id": machine})
    row.version += 1


def confirm(row: System, found: Probe, machine: str) -> str:
    """Make the probed machine the system. Returns the previous machine's id."""
    if found.machine is None:
        raise NotFound(found.problem or "The system does not answer.", found.remedy or "")
    if found.machine.id != machine:
        raise BadInput(
            f"The machine that answers is {found.machine.id}.", "Confirm that one, or look again."
        )
    before = row.machine.id if row.machine else "-"
    row.machine = found.machine
    row.version += 1
    return before
