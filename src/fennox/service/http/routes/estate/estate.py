"""The state of the whole: status, audit, health."""

from __future__ import annotations

from datetime import datetime, timedelta

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse
from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run, Worker
from fennox.catalogue.models.stores import StoreRow
from fennox.service.concerns import estate_count, estate_watch, matters, standing_concerns
from fennox.service.http.routes.people.session import Here
from fennox.service.people import scopes
from fennox.service.upkeep import store_duties
from fennox.wire.concerns import Concern
from fennox.wire.runs import Status

router = APIRouter(tags=["estate"])
health = APIRouter(tags=["health"])

_WORKER_GONE = timedelta(seconds=10)


async def _workers(session: AsyncSession) -> int:
    heard = Worker.seen.between(func.now() - _WORKER_GONE, func.now() + _WORKER_GONE)
    alive = select(func.count()).select_from(Worker).where(heard)
    return int((await session.execute(alive)).scalar_one())


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


@router.get("/status")
async def status(context: Here) -> Status:
    """What is wrong, and how much is protected."""
    await store_duties.watch_folders(context)
    async with context.session() as session:
        workers = await _workers(session)
        await estate_watch.refresh(context, session)
        found = await standing_concerns.standing(session, context.now())
        counts = await estate_count.counted(context, session)

        async def count(table: type[StoreRow] | type[Routine]) -> int:
            if scopes.is_narrow():
                return 0  # they belong to the whole estate
            return int(
                (await session.execute(select(func.count()).select_from(table))).scalar_one()
            )

        active = select(func.count()).select_from(Run).where(IS_ACTIVE)
        return Status(
            at=context.now(),
            simulated_clock=context.simulated,
            concerns=[concern_shown(row, context.now()) for row in found.worst],
            matters=matters.matters(found),
            concerns_in_all=found.in_all,
            muted=found.muted,
            systems=counts.systems,
            protected=counts.protected,
            backups=counts.backups,
            stores=await count(StoreRow),
            routines=await count(Routine),
            workers=workers,
            active_runs=(await session.execute(active)).scalar_one(),
        )


@router.get("/openapi.json", include_in_schema=False)
async def openapi_document(request: Request) -> JSONResponse:
    """This description of the API (OpenAPI 3.1)."""
    return JSONResponse(request.app.openapi())


@health.get("/healthz")
async def healthz() -> dict[str, str]:
    """The process answers."""
    return {"state": "alive"}


@health.get("/readyz")
async def readyz(context: Here) -> dict[str, str]:
    """The database answers too."""
    async with context.session() as session:
        await session.execute(text("select 1"))
    return {"state": "ready"}
