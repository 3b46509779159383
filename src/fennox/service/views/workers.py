"""Workers and sites, as the API shows them."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Run, Worker
from fennox.catalogue.models.systems import Site
from fennox.service.concerns import estate_watch
from fennox.service.machines import sites
from fennox.wire.base import Page
from fennox.wire.machines.sites import SiteShown
from fennox.wire.watch.workers import WorkerShown

_REMEMBERED = timedelta(days=7)


def _state(row: Worker, now: datetime) -> Literal["alive", "draining", "gone", "stopped"]:
    if row.stopped is not None:
        return "stopped"
    if abs(now - row.seen) > estate_watch.WORKER_ALIVE:
        return "gone"
    return "draining" if row.draining else "alive"


async def page(session: AsyncSession) -> Page[WorkerShown]:
    """Workers of the last week, most recently heard from first."""
    now: datetime = (await session.execute(select(func.now()))).scalar_one()
    running = select(Run.worker, func.count()).where(Run.state == constant("running"))
    by_worker = await session.execute(running.group_by(Run.worker))
    runs = {str(worker): count for worker, count in by_worker}
    rows = select(Worker).where(Worker.seen > now - _REMEMBERED).order_by(Worker.seen.desc())
    items = [
        WorkerShown(
            id=row.id,
            name=row.name,
            version=row.version,
            state=_state(row, now),
            started=row.started,
            seen=row.seen,
            skew=row.skew,
            runs=runs.get(row.id, 0),
        )
        for row in (await session.execute(rows)).scalars()
    ]
    return Page(items=items)


async def site_page(session: AsyncSession) -> Page[SiteShown]:
    now: datetime = (await session.execute(select(func.now()))).scalar_one()
    every = await sites.with_systems(session)
    return Page(items=[_site(row, systems, now) for row, systems in every])


def _site(row: Site, systems: int, now: datetime) -> SiteShown:
    heard = row.seen is not None and now - row.seen < sites.HEARD_WITHIN
    return SiteShown(
        name=row.name,
        admitted=row.admitted,
        by=row.by,
        connected=bool(row.connected) and heard,
        seen=row.seen,
        machine=row.machine or "",
        version=row.version or "",
        key=row.key or "",
        skew=row.skew or 0.0,
        systems=systems,
        drop=row.drop or "",
        drop_ftps=row.drop_ftps or "",
    )
