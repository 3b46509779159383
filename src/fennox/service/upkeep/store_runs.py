"""Queueing store runs: copies, scrub with healing, verify, sweep."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.core.errors import Conflict
from fennox.core.facts.run_orders import (
    CopyOrder,
    StoreOrder,
    VerifyOrder,
)
from fennox.service.machines.context import Context
from fennox.service.runs import new_runs


async def enqueue_for_store(
    context: Context, session: AsyncSession, order: StoreOrder, row: StoreRow, by: str
) -> Run:
    """Queue a run for a store; one per kind at a time."""
    active = select(Run).where(Run.kind == order.kind, Run.store_id == row.id, IS_ACTIVE)
    other = (await session.execute(active)).scalars().first()
    if other is not None and order.kind != "copy":
        raise Conflict(
            f"A {order.kind} of {row.name} is {other.state} already ({other.id[:12]}).",
            "Wait for it, or stop it.",
        )
    backup = order.backup if isinstance(order, CopyOrder | VerifyOrder) else None
    about = new_runs.About(store_id=row.id, backup_id=backup)
    return await new_runs.enqueue(session, order, about, by=by, now=context.now())


async def enqueue_copies(
    context: Context, session: AsyncSession, run: Run, routine: Routine | None, backup: str
) -> None:
    """After a routine's take: one copy run per additional store."""
    for store_id in routine.copy_to if routine else []:
        row = await session.get(StoreRow, store_id)
        if row is not None and row.id != run.store_id:
            await enqueue_for_store(context, session, CopyOrder(backup=backup), row, run.by)


async def enqueue_copy(
    context: Context, session: AsyncSession, backup: Backup, store: StoreRow, by: str
) -> Run:
    """Raises Conflict if the store already holds the backup."""
    if await session.get(Copy, (backup.id, store.id)) is not None:
        raise Conflict(f"{store.name} holds this backup already.", "There is nothing to copy.")
    return await enqueue_for_store(context, session, CopyOrder(backup=backup.id), store, by)
