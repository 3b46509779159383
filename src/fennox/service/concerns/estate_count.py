"""How much of the estate is protected. Counted by the watch, which reads everything, so that a
request needs only one row.
"""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.service import EstateCount
from fennox.catalogue.models.systems import System
from fennox.service.machines.context import Context
from fennox.service.people import scopes
from fennox.service.queries.newest_good import newest_backups, unhurried
from fennox.service.queries.selectors import PROTECTED
from fennox.service.takes import awaited

_MANY = 50_000  # backups


async def count(context: Context, session: AsyncSession) -> EstateCount:
    """Count, and store the result."""
    found = await _figures(context, session)
    kept = insert(EstateCount).values(one=1, **found)
    await session.execute(kept.on_conflict_do_update(index_elements=["one"], set_=found))
    return EstateCount(one=1, **found)


async def _figures(context: Context, session: AsyncSession) -> dict[str, object]:
    """A system is protected if it has a good, complete backup that is not only on its
    own machine.
    """
    there_now = select(System).where(PROTECTED)
    systems: list[System] = [row[0] for row in await unhurried(session, there_now)]
    to_come = await awaited.lacking(context, session, systems)
    wanting = {
        system
        for system, found in to_come.items()
        if any(one.severity == "warning" for one in found)
    }
    on_itself = select(ConcernRow.about).where(
        ConcernRow.code == "only-on-itself", ConcernRow.ended.is_(None)
    )
    fall_with_it = set((await session.execute(on_itself)).scalars())
    wanting |= {system.id for system in systems if system.name in fall_with_it}
    there = {system.id for system in systems}
    protected = 0
    for row in await unhurried(session, newest_backups(Backup.findings)):
        whole = not any(finding.severity == "warning" for finding in row.findings)
        protected += whole and row.system in there and row.system not in wanting
    backups = (await session.execute(select(func.count()).select_from(Backup))).scalar_one()
    stores = {
        store: [number, newest.timestamp()]
        for store, (number, newest) in (await _stores(session)).items()
    }
    return {"systems": len(systems), "protected": protected, "backups": backups, "stores": stores}


async def _stores(session: AsyncSession) -> dict[str, tuple[int, datetime]]:
    held = (
        select(Copy.store_id, func.count(), func.max(Backup.time))
        .join(Backup)
        .group_by(Copy.store_id)
    )
    return {store: (number, newest) for store, number, newest in await session.execute(held)}


async def in_stores(context: Context, session: AsyncSession) -> dict[str, tuple[int, datetime]]:
    """Per store the number of backups and the time of the newest; cached if there are many."""
    counts = await counted(context, session)
    if counts.backups <= _MANY:
        return await _stores(session)
    return {
        store: (number, datetime.fromtimestamp(at, UTC))
        for store, (number, at) in counts.stores.items()
    }


async def counted(context: Context, session: AsyncSession) -> EstateCount:
    """The last count. For a caller with a narrower scope, their part is counted now."""
    if scopes.is_narrow():
        return EstateCount(one=1, **await _figures(context, session))
    return await session.get(EstateCount, 1) or await count(context, session)
