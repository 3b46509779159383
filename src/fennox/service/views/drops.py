"""What has arrived at the drop, as the API shows it."""

from __future__ import annotations

import asyncio

from sqlalchemy import or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.drops import DropAccount
from fennox.catalogue.models.systems import System
from fennox.service.drops import arrivals
from fennox.service.drops.spools import drop_of, has_spool, spool_of
from fennox.service.machines.context import Context
from fennox.wire.drops import DropOfSystem


async def all_drops(context: Context, session: AsyncSession) -> list[DropOfSystem]:
    """Systems with a login at the drop or with something in it."""
    waiting = await asyncio.to_thread(spool_of(context).systems) if has_spool(context) else []
    rows = await session.execute(
        select(System, DropAccount)
        .outerjoin(DropAccount, DropAccount.system_id == System.id)
        .where(or_(DropAccount.system_id.is_not(None), System.id.in_(waiting)))
        .order_by(System.name)
    )
    return [await _one(context, session, system, account) for system, account in rows]


async def of_system(context: Context, session: AsyncSession, system: System) -> DropOfSystem:
    return await _one(context, session, system, await session.get(DropAccount, system.id))


async def _one(
    context: Context, session: AsyncSession, system: System, account: DropAccount | None
) -> DropOfSystem:
    drop = drop_of(context, system.id)
    kind = context.kinds.installed(system.kind)
    notes = await asyncio.to_thread(drop.jail.notes)
    return DropOfSystem(
        system=system.name,
        account=account.account if account else None,
        keys=len(account.keys) if account else 0,
        made=account.made if account else None,
        by=account.by if account else None,
        waits=await arrivals.waits(session, system, kind, drop) if kind is not None else "",
        files=arrivals.arrived_of(notes, kind),
    )
