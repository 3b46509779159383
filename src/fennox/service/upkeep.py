"""When stores are looked after: whether they answer, and when scrub, sweep and verify are due."""

from __future__ import annotations

import contextlib
from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Copy, KeySet, Run, StoreRow, StoreSpace
from fennox.core.errors import Conflict, FennoxError
from fennox.service.context import Context
from fennox.service.tending import enqueue_for_store
from fennox.wire.runs import RunKind

SCRUB_EVERY = timedelta(days=7)
SWEEP_EVERY = timedelta(days=7)
VERIFY_WITHIN = timedelta(days=30)  # every backup is opened and read whole at least this often
_VERIFY_EVERY = timedelta(days=7)


async def watch(context: Context) -> None:
    """Look whether far stores answer and still hold the header this service wrote."""
    async with context.session() as session:
        rows = list((await session.execute(select(StoreRow).where(StoreRow.address.not_like("/%")))).scalars())
    for row in rows:
        why = ""
        try:
            async with context.session() as session:
                await context.vault(session, row)
        except FennoxError as error:
            why = error.what
        async with context.session() as session:
            current = await session.get(StoreRow, row.id)
            if current is not None:
                current.stopped_because = why


async def tend(context: Context) -> None:
    """Queue what the stores are due for: scrub and sweep every week, verify so that each backup's turn comes."""
    now = context.now()
    async with context.session() as session:
        for row in (await session.execute(select(StoreRow))).scalars().all():
            since = row.created
            shares = await _shares(session, row)
            if now - (row.scrubbed or since) >= max(SCRUB_EVERY / shares, timedelta(days=1)):
                await queue_once(context, session, "scrub", row, share=[row.scrub_share % shares, shares])
            if now - (row.swept or since) >= SWEEP_EVERY:
                await queue_once(context, session, "sweep", row)
            keys = await session.get(KeySet, (row.key_set, row.generation))
            if keys is None or keys.sealed_opening_key is None:
                continue  # kept apart: a person verifies, and a concern says when nobody has for long
            due = select(func.count()).select_from(Copy).where(
                Copy.store_id == row.id, func.coalesce(Copy.verified, Copy.since) < now - VERIFY_WITHIN + _VERIFY_EVERY
            )  # fmt: skip
            if (await session.execute(due)).scalar_one():
                total = select(func.count()).select_from(Copy).where(Copy.store_id == row.id)
                share = -(-(await session.execute(total)).scalar_one() * _VERIFY_EVERY // VERIFY_WITHIN)
                await queue_once(context, session, "verify", row, most=int(share))


async def _shares(session: AsyncSession, row: StoreRow) -> int:
    """In how many scrubs a store is read whole, so that none reads more than its budget."""
    newest = select(StoreSpace.used).where(StoreSpace.store_id == row.id).order_by(StoreSpace.at.desc()).limit(1)
    used = (await session.execute(newest)).scalar_one_or_none() or 0
    return max(1, -(-used // row.scrub_budget))


async def queue_once(context: Context, session: AsyncSession, kind: RunKind, row: StoreRow, **order: object) -> None:
    """Queue it unless that was done within a day."""
    last = select(func.max(Run.created)).where(Run.kind == kind, Run.store_id == row.id, Run.system_id.is_(None))
    before = (await session.execute(last)).scalar_one_or_none()
    if before is not None and context.now() - before < timedelta(days=1):
        return  # it failed or goes on; it is tried again the next day
    with contextlib.suppress(Conflict):  # one is waiting since long ago
        await enqueue_for_store(context, session, kind, row, "schedule", **order)
