"""Draining a worker: it accepts no new runs and finishes its present ones."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Worker
from fennox.core.errors import Conflict
from fennox.service.queries import ids


async def drain(session: AsyncSession, worker: str) -> Worker:
    """``worker``: its id or a prefix of it. Raises NotFound, BadInput and Conflict."""
    fits = Worker.id.startswith(worker, autoescape=True), Worker.stopped.is_(None)
    rows = list((await session.execute(select(Worker).where(*fits).limit(2))).scalars())
    if len(rows) != 1 or len(worker) < ids.LEAST:
        raise ids.not_one("worker", worker, len(rows), "fennox worker list")
    if rows[0].draining:
        raise Conflict("It is draining already.", "Wait until it has finished.")
    rows[0].draining = True
    return rows[0]
