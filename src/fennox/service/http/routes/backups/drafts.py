"""Drafting a restore: nothing is changed."""

from __future__ import annotations

from fastapi import APIRouter, Request

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, Conflict, KeyUnknown
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.facts.run_orders import Aim, DraftOrder
from fennox.core.kinds.model import Kind
from fennox.core.kinds.steps import Entrance
from fennox.links.base import parse_address
from fennox.service.access_control import audit
from fennox.service.http.routes.backups.runs import run_shown
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import Way, way_to
from fennox.service.queries.lookups import find_backup
from fennox.service.runs import new_runs
from fennox.wire.restores import NewDraft
from fennox.wire.runs import RunShown

router = APIRouter(tags=["restores"])


@router.post("/restores", status_code=202)
async def draft_restore(wanted: NewDraft, request: Request, context: Here, who: Who) -> RunShown:
    """Start drafting a run sheet: backup and target are looked at, nothing is changed."""
    async with context.session() as session:
        backup = await find_backup(session, wanted.backup)
        own = await session.get_one(System, backup.system_id)
        system = await named(session, System, wanted.onto) if wanted.onto else own
        if system.id != own.id:
            raise BadInput(
                f"The backup is of {own.name}, not of {system.name}.",
                "Say where the fresh machine answers with --at; restoring onto another system comes"
                " with migrations.",
                field="onto",
            )
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
        use = await login_uses.aimed(
            session, who, login, address, wanted.key or _own_key(system, address)
        )
        await login_uses.must_be_nobody_elses(session, who, system, use.address, use.key)
        entrance = kind.restore.entrance if kind.restore is not None else None
        at_entrance: login_uses.Use | None = None
        if entrance is not None:
            there = str(
                parse_address(
                    wanted.entrance.at or parse_address(address, kind.port).host, entrance.port
                )
            )
            by = (
                await named(session, Login, wanted.entrance.login)
                if wanted.entrance.login
                else login
            )
            at_entrance = await login_uses.aimed(session, who, by, there, wanted.entrance.key)
    if use.key is None:
        await _tell_key(context, kind, use, way_to(system))
    if entrance is not None and at_entrance is not None and at_entrance.key is None:
        await _tell_key(context, entrance, at_entrance, way_to(system))
    async with context.session() as session:
        run = await new_runs.enqueue(
            session,
            DraftOrder(
                backup=backup.id,
                target=_aim(use),
                parts=wanted.parts,
                entrance=_aim(at_entrance) if at_entrance is not None else None,
            ),
            new_runs.About(system_id=system.id),
            by=who.name,
            now=context.now(),
            wait=wanted.wait,
        )
        said = {"backup": backup.id, "at": address, "login": login.name, "key": str(use.key)}
        if at_entrance is not None and at_entrance.login is not None:
            said |= {"entrance": at_entrance.address, "entrance_login": at_entrance.login.name}
            said |= {"entrance_key": str(at_entrance.key)}
        await audit.note(session, request, "drafted a restore", "system", system.name, **said)
        await session.refresh(run)
        return await run_shown(context, session, run)


def _own_key(system: System, address: str) -> str | None:
    return system.key if address == system.address else None


def _aim(use: login_uses.Use) -> Aim:
    assert use.login is not None
    assert use.key is not None
    return Aim(login=use.login.id, address=use.address, key=use.key)


async def _tell_key(
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
