"""Drafting a run sheet anew: with other choices, or by a kind that was corrected since."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import ACTIVE, SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.core.facts.run_orders import DraftOrder
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.people.persons import Person
from fennox.service.restores.draft_request import must_be_places
from fennox.service.restores.requests import Started, run_of, sheet_of
from fennox.service.restores.returning import aim_now, entrance_of
from fennox.service.runs import new_runs


async def request(
    context: Context, session: AsyncSession, row: SheetRow, places: Mapping[str, str], who: Person
) -> Started:
    """Queue a draft that takes the place of this sheet and keeps what is done. ``row`` is locked.
    Raises Conflict, BadInput for a value of the place that the kind does not have, and NotAllowed
    for a secret that was not sent to the target before and may not be.
    """
    before, data = await run_of(session, row), sheet_of(row)
    if before is not None and before.state in ACTIVE:
        raise Conflict(
            "This restore is still running.", f"Stop it first: fennox run stop {before.id[:12]}"
        )
    if data.giving_up or data.state in ("proved", "given up", "returned"):
        raise Conflict(f"This restore is {data.state}.", "Draft a new one.")
    system = await session.get_one(System, row.system_id)
    kind, _ = context.kinds.kind(system.kind)
    must_be_places(kind, places)
    target = await aim_now(session, row, data)
    meant = login_uses.logins_in(kind, system.settings)
    others = [name for setting, name in meant.items() if name != data.secrets.get(setting)]
    await login_uses.aimed_as_secrets(session, who, others, target.address, target.key)
    order = DraftOrder(
        backup=row.backup_id,
        target=target,
        entrance=await entrance_of(session, row, data),
        parts=data.parts,
        places={**data.placed.given, **places},
        only=data.placed.only,
        purpose=data.purpose,
        spare=row.spare_id,
        new_name=data.new_name,
        beside=data.secrets.get(kind.beside.login, "") if kind.beside is not None else "",
        stance=data.replica.stance if data.replica is not None else None,
        claim=data.replica.claim if data.replica is not None else "",
        returns=data.returns,
        again=row.id,
    )
    run = await new_runs.enqueue(
        session,
        order,
        new_runs.About(system_id=row.target_system_id),
        by=who.name,
        now=context.now(),
        wait=True,
    )
    return Started(run, is_new=True)
