"""Processes that do the runs."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Literal

from fastapi import APIRouter, Request
from sqlalchemy import func, select

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Run, Worker
from fennox.core.errors import Conflict
from fennox.service.access_control import audit
from fennox.service.concerns import estate_watch
from fennox.service.http.routes.people.session import Here
from fennox.service.queries import ids
from fennox.wire.base import Page
from fennox.wire.workers import WorkerShown

router = APIRouter(tags=["workers"])

_REMEMBERED = timedelta(days=7)


def _state(row: Worker, now: datetime) -> Literal["alive", "draining", "gone", "stopped"]:
    if row.stopped is not None:
        return "stopped"
    if abs(now - row.seen) > estate_watch.WORKER_ALIVE:
        return "gone"
    return "draining" if row.draining else "alive"


@router.get("/workers")
async def list_workers(context: Here) -> Page[WorkerShown]:
    """Workers of the last week, those that were heard of last first."""
    async with context.session() as session:
        now: datetime = (await session.execute(select(func.now()))).scalar_one()
        holding = (
            select(Run.worker, func.count())
            .where(Run.state == constant("running"))
            .group_by(Run.worker)
        )
        runs = {str(worker): count for worker, count in await session.execute(holding)}
        rows = select(Worker).where(Worker.seen > now - _REMEMBERED).order_by(Worker.seen.desc())
        return Page(
            items=[
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
        )


@router.post("/workers/{worker}/drain", status_code=204)
async def drain_worker(worker: str, request: Request, context: Here) -> None:
    """Have a worker take nothing new; it finishes what it holds. One of its own then ends."""
    async with context.session() as session:
        found = select(Worker).where(
            Worker.id.startswith(worker, autoescape=True), Worker.stopped.is_(None)
        )
        rows = list((await session.execute(found.limit(2))).scalars())
        if len(rows) != 1 or len(worker) < ids.LEAST:
            raise ids.not_one("worker", worker, len(rows), "fennox worker list")
        if rows[0].draining:
            raise Conflict("It is draining already.", "Wait until it has finished.")
        rows[0].draining = True
        await audit.note(session, request, "drained", "worker", rows[0].name)
