"""Concerns, alert routes and the state of the whole, as the API shows them."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import Alert, AlertRoute, ConcernRow
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run, Worker
from fennox.catalogue.models.stores import StoreRow
from fennox.service.concerns import estate_count, estate_watch, matters, standing_concerns
from fennox.service.machines.context import Context
from fennox.service.people import scopes
from fennox.wire.base import Page
from fennox.wire.watch.alerts import AlertRouteShown
from fennox.wire.watch.concerns import Concern
from fennox.wire.watch.runs import Status

_ENDED = 200  # concerns that are over, at most
_WORKER_GONE = timedelta(seconds=10)


def concern_shown(row: ConcernRow, now: datetime) -> Concern:
    muted = row.muted_until is not None and row.muted_until > now
    return Concern(
        id=row.key,
        severity=row.severity,
        noun=row.noun,
        about=row.about,
        text=row.text,
        means=row.means,
        remedy=row.remedy,
        since=row.since,
        ended=row.ended,
        muted_until=row.muted_until if muted else None,
        muted_because=row.muted_because if muted else "",
        muted_by=row.muted_by if muted else "",
    )


async def page(
    context: Context, session: AsyncSession, *, ended: bool, limit: int, after: int
) -> Page[Concern]:
    """Standing concerns, worst first, including muted ones; or past ones, newest first."""
    chosen = select(ConcernRow)
    if ended:
        over = chosen.where(ConcernRow.ended.is_not(None)).order_by(ConcernRow.ended.desc())
        rows = list((await session.execute(over.limit(_ENDED))).scalars())
        return Page(items=[concern_shown(row, context.now()) for row in rows], after=None)
    await estate_watch.refresh(context, session)
    worst = chosen.where(ConcernRow.ended.is_(None)).order_by(*standing_concerns.WORST_FIRST)
    rows = list((await session.execute(worst.offset(after).limit(limit + 1))).scalars())
    more = str(after + limit) if len(rows) > limit else None
    return Page(items=[concern_shown(row, context.now()) for row in rows[:limit]], after=more)


async def status(context: Context, session: AsyncSession) -> Status:
    workers = await _workers(session)
    await estate_watch.refresh(context, session)
    standing = await standing_concerns.standing(session, context.now())
    counts = await estate_count.counted(context, session)
    active = select(func.count()).select_from(Run).where(IS_ACTIVE)
    return Status(
        at=context.now(),
        simulated_clock=context.simulated,
        concerns=[concern_shown(row, context.now()) for row in standing.worst],
        matters=matters.matters(standing),
        concerns_in_all=standing.in_all,
        muted=standing.muted,
        systems=counts.systems,
        protected=counts.protected,
        backups=counts.backups,
        stores=await _count(session, StoreRow),
        routines=await _count(session, Routine),
        workers=workers,
        active_runs=(await session.execute(active)).scalar_one(),
    )


async def _count(session: AsyncSession, table: type[StoreRow] | type[Routine]) -> int:
    if scopes.is_narrow():
        return 0  # they concern the whole estate
    count = await session.execute(select(func.count()).select_from(table))
    return int(count.scalar_one())


async def _workers(session: AsyncSession) -> int:
    heard = Worker.seen.between(func.now() - _WORKER_GONE, func.now() + _WORKER_GONE)
    alive = select(func.count()).select_from(Worker).where(heard)
    return int((await session.execute(alive)).scalar_one())


async def alert_routes(session: AsyncSession) -> Page[AlertRouteShown]:
    rows = (await session.execute(select(AlertRoute).order_by(AlertRoute.name))).scalars().all()
    return Page(items=[await alert_route(session, row) for row in rows])


async def alert_route(session: AsyncSession, row: AlertRoute) -> AlertRouteShown:
    await session.flush()
    mine = select(Alert).where(Alert.route_id == row.id)
    waiting = (
        select(func.count())
        .select_from(Alert)
        .where(Alert.route_id == row.id, Alert.sent.is_(None))
    )
    failed = mine.where(Alert.error != "").order_by(Alert.id.desc()).limit(1)
    last_failed = (await session.execute(failed)).scalar_one_or_none()
    sent = select(func.max(Alert.sent)).where(Alert.route_id == row.id)
    return AlertRouteShown(
        id=row.id,
        name=row.name,
        channel=row.channel,
        address=row.address,
        to=row.settings.to,
        severity=row.severity,
        systems=row.systems,
        digest=row.digest,
        mode=row.mode,
        created=row.created,
        audit=row.audit,
        waiting=(await session.execute(waiting)).scalar_one(),
        last_sent=(await session.execute(sent)).scalar_one_or_none(),
        last_error=last_failed.error if last_failed else "",
    )
