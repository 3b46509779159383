"""Store upkeep: reachability, and when scrub, sweep and verify are due."""

from __future__ import annotations

import asyncio
import contextlib
from datetime import datetime, timedelta
from functools import cache

from sqlalchemy import Select, exists, func, select
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import PEOPLE, Run
from fennox.catalogue.models.stores import KeySet, StoreRow, StoreSpace
from fennox.core.errors import Conflict, FennoxError
from fennox.core.facts.run_orders import (
    AdoptOrder,
    CopyOrder,
    ScrubOrder,
    StoreOrder,
    SweepOrder,
    VerifyOrder,
)
from fennox.core.retention import removal
from fennox.core.schedule import moments
from fennox.service.machines.context import Context
from fennox.service.upkeep import sweep_run
from fennox.service.upkeep.store_runs import enqueue_for_store

SCRUB_EVERY = timedelta(days=7)
SWEEP_EVERY = timedelta(days=7)
VERIFY_WITHIN = timedelta(days=30)  # every backup is read completely at least this often
_VERIFY_EVERY = timedelta(days=7)
_AGAIN_AFTER = timedelta(hours=1)  # delay before failed runs are retried
_TOGETHER = 200  # runs retried at a time
FULL = 64 * 1024 * 1024  # bytes; a store with less free space is full
_PATIENCE = 30.0  # seconds before a silent store counts as unreachable
_GLANCE = 1.0  # seconds a person's request waits for a folder


async def watch(context: Context) -> None:
    """Check that stores answer and still hold what this service wrote. A store that was set back is
    scrubbed.
    """
    async with context.session() as session:
        rows = list((await session.execute(select(StoreRow))).scalars())
    await asyncio.gather(*(_look_at(context, row, _PATIENCE) for row in rows))


async def watch_folders(context: Context) -> None:
    """As :func:`watch`, for a person's request: only stores that answer quickly."""
    async with context.session() as session:
        rows = list(
            (await session.execute(select(StoreRow).where(StoreRow.address.like("/%")))).scalars()
        )
    await asyncio.gather(*(_look_at(context, row, _GLANCE, tell_silence=False) for row in rows))


async def _look_at(
    context: Context, row: StoreRow, patience: float, *, tell_silence: bool = True
) -> None:
    why, free = "", row.free
    try:
        async with context.session() as session:
            door = await context.stores.door(session, row)
        async with asyncio.timeout(patience):
            vault = await context.stores.vault(door)
            space = await vault.store.space() if vault.store.abilities.space else None
            free = space.free if space is not None else None
    except FennoxError as error:
        why = error.what
    except TimeoutError:
        if not tell_silence:
            return
        why = f"The store {row.name} did not answer within {patience:.0f} seconds."
    async with context.session() as session:
        current = await session.get(StoreRow, row.id)
        if current is not None and current.stopped_because != why:
            current.stopped_because = why
        if current is not None and _tells_apart(current.free, free):
            current.free = free
        if current is not None and current.went_back:
            await queue_once(context, session, ScrubOrder(), current)


def _tells_apart(before: int | None, now: int | None) -> bool:
    """Whether the free space changed enough to be recorded."""
    if before is None or now is None:
        return before is not now
    return (before < FULL) != (now < FULL) or abs(before - now) > before // 20


async def tend(context: Context) -> None:
    """Queue due runs for stores: weekly scrub and sweep, and verify so that every backup gets its
    turn.
    """
    now = context.now()
    async with context.session() as session:
        for row in (await session.execute(select(StoreRow))).scalars().all():
            since = row.created
            shares = await _shares(session, row)
            scrubbed, swept = moments.past(row.scrubbed, now), moments.past(row.swept, now)
            if now - (scrubbed or since) >= max(SCRUB_EVERY / shares, timedelta(days=1)):
                await queue_once(
                    context, session, ScrubOrder(share=(row.scrub_share % shares, shares)), row
                )
            if now - (swept or since) >= SWEEP_EVERY or await _seen_long_enough(session, row, now):
                await queue_once(context, session, SweepOrder(), row)
            keys = await session.get(KeySet, (row.key_set, row.generation))
            if keys is None or keys.sealed_opening_key is None:
                # custody apart: a person verifies, and a concern reports when nobody has for long
                continue
            due = (
                select(func.count())
                .select_from(Copy)
                .where(
                    Copy.store_id == row.id,
                    func.coalesce(Copy.verified, Copy.since) < now - VERIFY_WITHIN + _VERIFY_EVERY,
                )
            )
            if (await session.execute(due)).scalar_one():
                total = select(func.count()).select_from(Copy).where(Copy.store_id == row.id)
                share = -(
                    -(await session.execute(total)).scalar_one() * _VERIFY_EVERY // VERIFY_WITHIN
                )
                await queue_once(context, session, VerifyOrder(most=int(share)), row)


async def try_again(context: Context) -> None:
    """Retry failed copies and adoptions that Fennox itself started."""
    now = context.now()
    async with context.session() as session:
        rows = (
            await session.execute(select(StoreRow).where(StoreRow.stopped_because == ""))
        ).scalars()
        # unreachable stores are checked every minute
        stores = {row.id: row for row in rows}
        for run in await failed_for_stores(session):
            ended = moments.past(run.ended, now)
            store = stores.get(run.store_id or "")
            if (
                store is None
                or run.lane == PEOPLE
                or (ended is not None and now - ended < _AGAIN_AFTER)
            ):
                continue
            with contextlib.suppress(Conflict):  # one is active
                if isinstance(run.order, CopyOrder | AdoptOrder):
                    await enqueue_for_store(context, session, run.order, store, run.by)


async def failed_for_stores(session: AsyncSession) -> list[Run]:
    """The last failure of each copy and adoption neither succeeded since nor active, a few at a
    time.
    """
    return list((await session.execute(_failed())).scalars())


@cache  # built once: it runs every minute, and building it takes longer than executing it
def _failed() -> Select[Run]:
    undone = ~exists().where(Copy.backup_id == Run.backup_id, Copy.store_id == Run.store_id)
    wanted = exists().where(Backup.id == Run.backup_id, Backup.expired.is_(False))
    later = aliased(Run)
    done_since = exists().where(
        later.store_id == Run.store_id,
        later.kind == Run.kind,
        later.system_id.is_(None),
        later.number > Run.number,
        (later.kind == constant("adopt")) | (later.backup_id == Run.backup_id),
    )
    return (
        select(Run)
        .where(
            Run.system_id.is_(None),
            Run.state == constant("failed"),
            Run.store_id.is_not(None),
            ~done_since,
        )
        .where((Run.kind == constant("adopt")) | ((Run.kind == constant("copy")) & undone & wanted))
        .order_by(Run.number)
        .limit(_TOGETHER)
    )


async def _seen_long_enough(session: AsyncSession, row: StoreRow, now: datetime) -> bool:
    """Whether the last sweep left something the next may remove, so that space is freed without
    waiting a week.
    """
    long_ago = (Copy.store_id == row.id, Copy.removable_since <= now - removal.GRACE)
    if (await session.execute(select(Copy.backup_id).where(*long_ago).limit(1))).first() is None:
        return False
    waits = removal.waits(await sweep_run.standing(session, row.id), now)
    return any(wait is None for wait in waits.values())


async def _shares(session: AsyncSession, row: StoreRow) -> int:
    """Number of scrubs that together read a store, each within its budget."""
    newest = (
        select(StoreSpace.used)
        .where(StoreSpace.store_id == row.id)
        .order_by(StoreSpace.at.desc())
        .limit(1)
    )
    used = (await session.execute(newest)).scalar_one_or_none() or 0
    return max(1, -(-used // row.scrub_budget))


async def queue_once(
    context: Context, session: AsyncSession, order: StoreOrder, row: StoreRow
) -> None:
    """Queue it unless that happened within a day."""
    last = select(func.max(Run.created)).where(
        Run.kind == order.kind, Run.store_id == row.id, Run.system_id.is_(None)
    )
    before = (await session.execute(last)).scalar_one_or_none()
    before = moments.past(before, context.now())
    if before is not None and context.now() - before < timedelta(days=1):
        return  # failed or active; retried tomorrow
    with contextlib.suppress(Conflict):  # one has been waiting for long
        await enqueue_for_store(context, session, order, row, "schedule")
