"""A draft as it is asked for: which backup, onto which machine, by which logins."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, Conflict, KeyUnknown
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.facts.run_orders import Aim, DraftOrder
from fennox.core.kinds.model import Kind
from fennox.core.kinds.steps import Entrance
from fennox.links.base import parse_address
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import Way, way_to
from fennox.service.people.persons import Person
from fennox.service.queries.lookups import find_backup
from fennox.service.runs import new_runs
from fennox.wire.restores import NewDraft


@dataclass(frozen=True)
class AimedDraft:
    """``use``: how the target is reached; ``at_entrance``: how its installation's entrance is."""

    backup: Backup
    system: System
    kind: Kind
    use: login_uses.Use
    entrance: Entrance | None
    at_entrance: login_uses.Use | None

    def in_audit(self) -> dict[str, str]:
        assert self.use.login is not None
        told = {
            "backup": self.backup.id,
            "at": self.use.address,
            "login": self.use.login.name,
            "key": str(self.use.key),
        }
        if self.at_entrance is not None and self.at_entrance.login is not None:
            told |= {
                "entrance": self.at_entrance.address,
                "entrance_login": self.at_entrance.login.name,
                "entrance_key": str(self.at_entrance.key),
            }
        return told


async def target(
    context: Context, session: AsyncSession, wanted: NewDraft, who: Person
) -> AimedDraft:
    """Raises BadInput, Conflict, and NotAllowed for a login that may not be used there."""
    backup = await find_backup(session, wanted.backup)
    system = await _system(session, backup, wanted)
    kind, _ = context.kinds.kind(system.kind)
    if kind.rebuilt_by:
        raise Conflict(
            f"{kind.title} is not restored by a run sheet.",
            f"On an empty machine: {kind.rebuilt_by}",
        )
    parts_to_take(kind, wanted.parts)
    address = str(parse_address(wanted.at, kind.port)) if wanted.at else system.address
    login = (
        await named(session, Login, wanted.login)
        if wanted.login
        else await session.get_one(Login, system.login_id)
    )
    own_key = system.key if address == system.address else None
    use = await login_uses.aimed(session, who, login, address, wanted.key or own_key)
    await login_uses.must_be_nobody_elses(session, who, system, use.address, use.key)
    entrance = kind.restore.entrance if kind.restore is not None else None
    at_entrance = None
    if entrance is not None:
        host = wanted.entrance.at or parse_address(address, kind.port).host
        there = str(parse_address(host, entrance.port))
        by = await named(session, Login, wanted.entrance.login) if wanted.entrance.login else login
        at_entrance = await login_uses.aimed(session, who, by, there, wanted.entrance.key)
    return AimedDraft(backup, system, kind, use, entrance, at_entrance)


async def _system(session: AsyncSession, backup: Backup, wanted: NewDraft) -> System:
    own = await session.get_one(System, backup.system_id)
    system = await named(session, System, wanted.onto) if wanted.onto else own
    if system.id != own.id:
        raise BadInput(
            f"The backup is of {own.name}, not of {system.name}.",
            "Give the address of the fresh machine with --at; restoring onto another system comes"
            " with migrations.",
            field="onto",
        )
    return system


async def must_be_accepted(context: Context, aimed: AimedDraft) -> None:
    """Raises KeyUnknown with the fingerprint that the target shows, if nobody accepted one."""
    way = way_to(aimed.system)
    if aimed.use.key is None:
        await _show_key(context, aimed.kind, aimed.use, way)
    at_entrance = aimed.at_entrance
    if aimed.entrance is not None and at_entrance is not None and at_entrance.key is None:
        await _show_key(context, aimed.entrance, at_entrance, way)


async def _show_key(
    context: Context, reach: Kind | Entrance, use: login_uses.Use, way: Way
) -> None:
    """Nothing is sent to a machine whose key nobody has accepted: the error shows it."""
    try:
        link = await context.machines.connect(reach, use, way)
    except KeyUnknown as error:
        error.fields["field"] = "entrance.key" if isinstance(reach, Entrance) else "key"
        raise
    await link.close()
    raise KeyUnknown("The fingerprint was not accepted.", "Accept it.")


async def enqueue(
    context: Context, session: AsyncSession, aimed: AimedDraft, wanted: NewDraft, by: str
) -> Run:
    return await new_runs.enqueue(
        session,
        DraftOrder(
            backup=aimed.backup.id,
            target=_aim(aimed.use),
            parts=wanted.parts,
            entrance=_aim(aimed.at_entrance) if aimed.at_entrance is not None else None,
        ),
        new_runs.About(system_id=aimed.system.id),
        by=by,
        now=context.now(),
        wait=wanted.wait,
    )


def _aim(use: login_uses.Use) -> Aim:
    assert use.login is not None
    assert use.key is not None
    return Aim(login=use.login.id, address=use.address, key=use.key)
