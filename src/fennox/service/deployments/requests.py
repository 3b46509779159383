"""People's requests about new machines: draft one, have it made, have it taken away."""

from __future__ import annotations

import secrets
from typing import assert_never

from sqlalchemy import or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import ACTIVE, DeploymentRow, Run, SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.deploying import planning_machine
from fennox.core.deploying.deployment import Deployment, DeploymentAct
from fennox.core.errors import BadInput, Conflict
from fennox.core.facts.run_orders import DeployOrder
from fennox.service.machines.context import Context, named
from fennox.service.queries import ids
from fennox.service.queries.lookups import find_backup
from fennox.service.runs import new_runs
from fennox.wire.machines.deployments import NewDeployment


async def find(session: AsyncSession, text: str) -> DeploymentRow:
    """By the beginning of its id. Raises NotFound or BadInput."""
    chosen = select(DeploymentRow).where(DeploymentRow.id.startswith(text, autoescape=True))
    rows = list((await session.execute(chosen.limit(2))).scalars())
    if len(rows) != 1 or len(text) < ids.LEAST:
        raise ids.not_one("deployment", text, len(rows), "fennox deployment list")
    return rows[0]


async def deployment_of(session: AsyncSession, row: DeploymentRow) -> Deployment:
    """As it stands: where its run has ended without a word, it has failed."""
    run = await session.get(Run, row.run_id) if row.run_id else None
    data = row.data.model_copy(update={"state": row.state}, deep=True)
    if run is not None and run.state not in ACTIVE:
        match data.state:
            case "drafting":
                data.state = "not drafted"
            case "making" | "taking away":
                data.state = "failed"
            case "draft" | "made" | "failed" | "taken away" | "not drafted":
                pass
            case _:
                assert_never(data.state)
    return data


async def draft(
    context: Context, session: AsyncSession, wanted: NewDeployment, by: str
) -> tuple[DeploymentRow, Run]:
    """Raises BadInput for a host that makes no machines, and for values that it does not know."""
    backup = await find_backup(session, wanted.backup)
    system = await session.get_one(System, backup.system_id)
    host = await named(session, System, wanted.host)
    kind, _ = context.kinds.kind(host.kind)
    planning_machine.must_be_values(kind, wanted.values)
    if host.id == system.id:
        raise BadInput(
            f"{system.name} cannot be made on itself.", "Choose another host.", field="host"
        )
    if host.login_id is None or host.retired:
        raise Conflict(f"{host.name} is not reached any more.", "Choose another host.")
    data = Deployment(
        system_name=system.name,
        host_name=host.name,
        host_address=host.address,
        kind=kind.name,
        kind_version=kind.version,
        values=[
            one
            for one in planning_machine.chosen(kind, kind, system.name, {}, wanted.values)
            if one.origin == "given"
        ],
    )
    row = DeploymentRow(
        id=secrets.token_hex(16),
        system_id=system.id,
        host_id=host.id,
        backup_id=backup.id,
        state=data.state,
        data=data,
        created=context.now(),
        by=by,
    )
    session.add(row)
    await session.flush()
    return row, await _queued(context, session, row, "draft", by)


async def act(
    context: Context,
    session: AsyncSession,
    row: DeploymentRow,
    what: DeploymentAct,
    name: str,
    by: str,
) -> Run:
    """Make the machine, go on, or take it away. ``name``: of the machine, said by the person.
    Raises Conflict and BadInput.
    """
    await new_runs.hold_active(session, row.host_id)
    await session.refresh(row, with_for_update=True)
    data = await deployment_of(session, row)
    if what not in data.acts() and not (what == "begin" and "continue" in data.acts()):
        raise Conflict(
            f"This deployment is {data.state}.", f"See it: fennox deployment show {row.id[:12]}"
        )
    if blockers := data.blockers():
        raise Conflict(f"It is blocked: {blockers[0].text}", blockers[0].remedy)
    if name != data.name:
        raise BadInput(
            f"The machine is called {data.name} on {data.host_name}.",
            "Say its name to confirm.",
            field="name",
        )
    host = await session.get_one(System, row.host_id)
    kind, _ = context.kinds.kind(host.kind)
    if what != "undo":
        _must_be_as_drafted(data, kind.version, host.address)
    else:
        await _must_not_be_needed(session, row, data)
    data.state = "making" if what != "undo" else "taking away"
    row.data, row.state = data, data.state
    return await _queued(context, session, row, "undo" if what == "undo" else "make", by)


def _must_be_as_drafted(data: Deployment, version: int, address: str) -> None:
    """What is made is what the person has seen."""
    changed = "its kind" if version != data.kind_version else ""
    changed = changed or ("its address" if address != data.host_address else "")
    if changed:
        raise Conflict(
            f"{data.host_name} is not as it was when this was drafted: {changed} has changed.",
            "Draft it again: fennox deployment draft BACKUP --on HOST",
        )


async def _must_not_be_needed(session: AsyncSession, row: DeploymentRow, data: Deployment) -> None:
    """A machine is not taken away that is a system, or that a restore writes to."""
    if not data.address:
        return
    same = or_(System.address == data.address, System.key == data.key)
    at = select(System.name).where(same, System.retired.is_(None))
    names = list((await session.execute(at)).scalars())
    # a restore may have given it the address and the key of the backup
    onto = select(SheetRow).where(SheetRow.system_id == row.system_id)
    for sheet in (await session.execute(onto)).scalars():
        aimed = (sheet.data.target.address, sheet.data.target.key)
        if sheet.data.accepted is not None and aimed == (data.address, data.key):
            named = select(System.name).where(
                System.name == (sheet.data.new_name or sheet.data.system_name),
                System.retired.is_(None),
            )
            names += (await session.execute(named)).scalars()
    if names:
        raise Conflict(
            f"The machine that was made at {data.address} is {names[0]} now.",
            f"Retire that first: fennox system retire {names[0]}",
        )
    busy = select(SheetRow).where(SheetRow.state.in_(("running", "waiting")))
    for sheet in (await session.execute(busy)).scalars():
        if (
            sheet.data.target.address == data.address
            or sheet.data.after.place.address == data.address
        ):
            raise Conflict(
                f"A restore is writing to the machine at {data.address}.",
                f"Stop it, or wait for its end: fennox restore show {sheet.id[:12]}",
            )


async def _queued(
    context: Context, session: AsyncSession, row: DeploymentRow, what: str, by: str
) -> Run:
    order = DeployOrder.model_validate({"deployment": row.id, "act": what})
    about = new_runs.About(system_id=row.host_id)
    run = await new_runs.enqueue(session, order, about, by=by, now=context.now(), wait=True)
    row.run_id = run.id
    return run
