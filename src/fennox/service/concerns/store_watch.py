"""Present and coming problems of stores."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Copy
from fennox.catalogue.models.stores import KeySet, StoreDamage, StoreRow, StoreSpace
from fennox.core.facts.concerns import ConcernFound
from fennox.core.retention import trend
from fennox.service.machines.context import Context
from fennox.service.upkeep import over_ceiling, store_duties

RUNS_OUT = timedelta(days=30)  # space


async def of_store(
    context: Context, session: AsyncSession, store: StoreRow, now: datetime
) -> list[ConcernFound]:
    """Reachability comes from the scheduler's check of the last minute or two."""
    return [
        *_at_a_glance(store, now),
        *await _damaged(session, store),
        *await _not_opened(session, store, now),
        *await _space(session, store, now),
        *await over_ceiling.concerns(session, store, now),
    ]


def _at_a_glance(store: StoreRow, now: datetime) -> Iterator[ConcernFound]:
    """Problems visible in its row alone."""
    if store.stopped_because:
        yield ConcernFound(
            "store-away",
            "high",
            "store",
            store.name,
            store.stopped_because,
            f"Run: fennox store test {store.name}",
            cause=f"store|{store.name}",
        )
    if store.went_back:
        yield _went_back(store)
    if store.free is not None and store.free < store_duties.FULL:
        yield ConcernFound(
            "full",
            "high",
            "store",
            store.name,
            f"{store.name} is full.",
            f"Make room on the far side. To see what may go: fennox store sweep {store.name}",
            "Nothing more can be written to it.",
        )
    if now - (store.scrubbed or store.created) > 2 * store_duties.SCRUB_EVERY:
        yield ConcernFound(
            "not-scrubbed",
            "low",
            "store",
            store.name,
            f"{store.name} has not been scrubbed for more than two weeks.",
            f"Run: fennox store scrub {store.name}",
            since=store.scrubbed,
        )


def _went_back(store: StoreRow) -> ConcernFound:
    return ConcernFound(
        "went-back",
        "high",
        "store",
        store.name,
        f"{store.name} went back in time: {store.went_back}.",
        f"A scrub heals it from copies: fennox store scrub {store.name}",
        "Somebody restored an older copy of it. Backups written since may be lost there.",
    )


async def _damaged(session: AsyncSession, store: StoreRow) -> list[ConcernFound]:
    bad = select(func.count()).select_from(Copy)
    bad = bad.where(Copy.store_id == store.id, Copy.damaged != "")
    count = (await session.execute(bad)).scalar_one()
    if not count:
        return []
    oldest = select(func.min(StoreDamage.found))
    oldest = oldest.where(StoreDamage.store_id == store.id, StoreDamage.healed.is_(None))
    since = (await session.execute(oldest)).scalar_one_or_none()
    many = "backup is" if count == 1 else "backups are"
    return [
        ConcernFound(
            "damaged",
            "high",
            "store",
            store.name,
            f"{count} {many} damaged in {store.name} and could not be healed.",
            f"See `fennox store damage {store.name}`; take those systems again, and keep a second"
            " copy.",
            "What is damaged cannot be restored from there.",
            since,
        )
    ]


async def _not_opened(session: AsyncSession, store: StoreRow, now: datetime) -> list[ConcernFound]:
    """In custody apart, verifying a backup needs a person's passphrase."""
    keys = await session.get(KeySet, (store.key_set, store.generation))
    if keys is None or keys.custody != "apart":
        return []
    opened = select(func.max(Copy.verified)).where(Copy.store_id == store.id)
    last = (await session.execute(opened)).scalar_one_or_none()
    if now - (last or store.created) <= store_duties.VERIFY_WITHIN:
        return []
    since = f"{last:%Y-%m-%d}" if last else f"it was made on {store.created:%Y-%m-%d}"
    return [
        ConcernFound(
            "not-opened",
            "low",
            "store",
            store.name,
            f"No backup in {store.name} has been opened since {since}.",
            "Verify one with its passphrase: fennox backup verify BACKUP",
            since=last,
        )
    ]


async def _space(session: AsyncSession, store: StoreRow, now: datetime) -> list[ConcernFound]:
    since = now - timedelta(days=60)
    query = select(StoreSpace.at, StoreSpace.used, StoreSpace.free).where(
        StoreSpace.store_id == store.id
    )
    rows = (await session.execute(query.where(StoreSpace.at > since).order_by(StoreSpace.at))).all()
    looks = [(row.at, row.used) for row in rows]
    free = next((row.free for row in reversed(rows) if row.free is not None), None)
    left = trend.time_until_full(looks, free, now) if free is not None else None
    if left is None or left > RUNS_OUT:
        return []
    return [
        ConcernFound(
            "space",
            "high" if left < timedelta(days=7) else "low",
            "store",
            store.name,
            f"{store.name} will be full in about {left.days} days at its present growth.",
            "Make room, sweep it, or shorten ladders.",
            "Then no backup can be written to it.",
        )
    ]
