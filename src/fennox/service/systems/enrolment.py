"""Names and addresses of systems: avoiding confusion, renaming, and removal."""

from __future__ import annotations

import re
from dataclasses import dataclass

from sqlalchemy import delete, func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.concerns import AlertRoute
from fennox.catalogue.models.runs import IS_ACTIVE, DeploymentRow, Routine, Run, SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import StateRow, System
from fennox.core.errors import BadInput, Conflict
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.service.machines import sites

_OWN = "fennox"  # the name of the service's own state, which has no login


async def must_be_free(
    session: AsyncSession, name: str, address: str, site: str, but: str | None = None
) -> None:
    """Raise if another system than ``but`` has the name, or is in use at the address in the same
    network.

    A retired system keeps its name, for its backups, but not its address, which its successor often
    takes.
    """
    taken = select(System).where(
        or_(System.name == name, System.address == address), System.id != (but or "")
    )
    for other in (await session.execute(taken)).scalars():
        if other.name == name:
            remedy = "Choose another name."
            if other.retired is not None:
                remedy = f"Choose another name, or bring it back: fennox system resume {name}"
            raise Conflict(f"There is a system {name} already.", remedy, field="name")
        if other.retired is None and await sites.same_network(session, other.site, site):
            raise Conflict(
                f"The system {other.name} is at {address} already.",
                f"Give another address. If it no longer exists: fennox system retire {other.name}"
                " --because TEXT",
                field="address",
            )


async def must_be_at_rest(session: AsyncSession, system: System) -> None:
    active = select(Run).where(Run.system_id == system.id, IS_ACTIVE)
    if (await session.execute(active)).first() is not None:
        raise Conflict(
            f"A run of {system.name} is active.", "Wait for it, or stop it with `fennox run stop`."
        )


def must_not_be_own(system: System) -> None:
    if system.login_id is None and system.name == _OWN:
        raise Conflict(
            "That is Fennox's own state.", "Keep it elsewhere with `fennox own-state set`."
        )


async def rename(session: AsyncSession, system: System, name: str) -> None:
    """Rename a system. Its backups stay; routines and alert routes that name it follow."""
    must_not_be_own(system)
    term = re.compile(rf"(?<!\S)name={re.escape(system.name)}(?!\S)")
    for routine in (await session.execute(select(Routine))).scalars():
        if term.search(routine.systems):
            routine.systems = term.sub(f"name={name}", routine.systems)
            routine.version += 1
    for route in (await session.execute(select(AlertRoute))).scalars():
        route.systems = term.sub(f"name={name}", route.systems)
    system.name = name


async def change_kind(session: AsyncSession, system: System, kind: Kind, before: Kind) -> None:
    """Change a system's kind. Digests for looks were read with the old kind and are dropped."""
    if kind.reach != before.reach or kind.reach == "service":
        raise BadInput(
            f"{kind.name} is reached otherwise than {before.name}.",
            f"Retire {system.name}, and enrol its machine again as {kind.name}.",
            field="kind",
        )
    await must_be_at_rest(session, system)
    unknown = sorted(set(system.settings) - set(kind.settings))
    if unknown:
        raise BadInput(
            f"{kind.name} has no setting {', '.join(unknown)}.",
            "Give --setting with those it has.",
            field="settings",
        )
    values_of(kind, dict(system.settings))
    await session.execute(delete(StateRow).where(StateRow.system_id == system.id))
    system.kind = kind.name


async def make_spare(session: AsyncSession, system: System, *, spare: bool) -> None:
    """A system that has backups of its own is worth something, and so never a spare."""
    await must_be_at_rest(session, system)
    own = select(Backup.id).where(Backup.system_id == system.id, Backup.purpose == "backup")
    if spare and (await session.execute(own.limit(1))).first() is not None:
        raise Conflict(
            f"{system.name} has backups: practice would overwrite what they protect.",
            "Enrol the spare machine under a name of its own: fennox system add NAME … --spare",
            field="spare",
        )
    if spare and system.login_id is None:
        raise BadInput(f"{system.name} is not reached.", "A spare is written to.", field="spare")
    system.spare = spare


@dataclass(frozen=True)
class Left:
    """What remains of a removed system: the number of its backups, and the names of
    their stores.
    """

    backups: int
    stores: list[str]


async def left_of(session: AsyncSession, system: System) -> Left:
    lying = (
        select(StoreRow.name, func.count())
        .join(Copy)
        .join(Backup)
        .where(Backup.system_id == system.id)
    )
    stores = (await session.execute(lying.group_by(StoreRow.name).order_by(StoreRow.name))).all()
    count = select(func.count()).select_from(Backup).where(Backup.system_id == system.id)
    return Left((await session.execute(count)).scalar_one(), [name for name, _ in stores])


async def _must_have_no_machine(session: AsyncSession, system: System) -> None:
    """The record of a machine that was made for it, or on it, is what takes that away again."""
    made = select(DeploymentRow).where(
        or_(DeploymentRow.system_id == system.id, DeploymentRow.host_id == system.id),
        DeploymentRow.state.in_(("making", "made", "failed", "taking away")),
    )
    for row in (await session.execute(made)).scalars():
        if row.data.address != system.address:
            raise Conflict(
                f"A machine was made for {row.data.system_name} on {row.data.host_name}:"
                f" {row.data.name}.",
                f"Take it away first: fennox deployment undo {row.id[:12]}",
            )


async def remove(session: AsyncSession, system: System) -> Left:
    """Forget a system with its runs, sheets, and the places of its backups. Removes nothing from
    stores.
    """
    must_not_be_own(system)
    await must_be_at_rest(session, system)
    through = select(System.name).where(System.via_id == system.id).order_by(System.name)
    if names := list((await session.execute(through)).scalars()):
        raise Conflict(
            f"The way to {', '.join(names)} leads through {system.name}.",
            f"Change it first: fennox system set {names[0]} --via ''",
        )
    await _must_have_no_machine(session, system)
    left = await left_of(session, system)
    for other in (
        await session.execute(select(System).where(System.needs.contains([system.id])))
    ).scalars():
        other.needs = [need for need in other.needs if need != system.id]
        other.version += 1
    for table in (Backup, Run, SheetRow):
        await session.execute(delete(table).where(table.system_id == system.id))
    await session.delete(system)
    await session.flush()
    return left
