"""Workers: the processes that carry out runs."""

from __future__ import annotations

from fastapi import Request

from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here
from fennox.service.runs.drain import drain
from fennox.service.views import workers as worker_views
from fennox.wire.base import Page
from fennox.wire.watch.workers import WorkerShown

router = api_router("workers")


@router.get("/workers")
async def list_workers(context: Here) -> Page[WorkerShown]:
    """Workers of the last week, most recently heard from first."""
    async with context.session() as session:
        return await worker_views.page(session)


@router.post("/workers/{worker}/drain", status_code=204)
async def drain_worker(worker: str, request: Request, context: Here) -> None:
    """Drain a worker: it accepts no new runs and finishes its present ones. A separate worker
    process then ends.
    """
    async with context.session() as session:
        drained = await drain(session, worker)
        await audit.note(session, request, "drained", "worker", drained.name)
