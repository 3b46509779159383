"""What is wrong with stores, or will be."""

from __future__ import annotations

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
    """Whether it answers was looked at by the scheduler within the last minute or two."""
    items: list[ConcernFound] = []
    away = f"store|{store.name}"
    if store.stopped_because:
        items.append(
            ConcernFound(
                "store-away",
                "high",
                "store",
                store.name,
                store.stopped_because,
                f"Run: fennox store test {store.name}",
                cause=away,
            )
        )
    if store.went_back:
        items.append(
            ConcernFound(
                "went-back",
                "high",
                "store",
                store.name,
                f"{store.name} went back in time: {store.went_back}.",
                f"It is scrubbed, which heals from copies: fennox store scrub {store.name}",
                "Somebody put back an older copy. Backups written since may be lost there.",
            )
        )
    if store.free is not None and store.free < store_duties.FULL:
        items.append(
            ConcernFound(
                "full",
                "high",
                "store",
                store.name,
                f"{store.name} is full.",
                f"Make room on the far side. What may go: fennox store sweep {store.name}",
                "Nothing more can be written to it.",
            )
        )
    bad = (
        select(func.count()).select_from(Copy).where(Copy.store_id == store.id, Copy.damaged != "")
    )
    if count := (await session.execute(bad)).scalar_one():
        oldest = select(func.min(StoreDamage.found)).where(
            StoreDamage.store_id == store.id, StoreDamage.healed.is_(None)
        )
        since = (await session.execute(oldest)).scalar_one_or_none()
        many = "backup is" if count == 1 else "backups are"
        remedy = (
            f"See `fennox store damage {store.name}`; take those systems again, and keep a second"
            " copy."
        )
        items.append(
            ConcernFound(
                "damaged",
                "high",
                "store",
                store.name,
                f"{count} {many} damaged in {store.name} and could not be healed.",
                remedy,
                "What is damaged cannot be restored from there.",
                since,
            )
        )
    if now - (store.scrubbed or store.created) > 2 * store_duties.SCRUB_EVERY:
        items.append(
            ConcernFound(
                "not-scrubbed",
                "low",
                "store",
                store.name,
                f"{store.name} was not scrubbed for more than two weeks.",
                f"Run: fennox store scrub {store.name}",
                since=store.scrubbed,
            )
        )
    keys = await session.get(KeySet, (store.key_set, store.generation))
    if keys is not None and keys.custody == "apart":
        opened = select(func.max(Copy.verified)).where(Copy.store_id == store.id)
        last = (await session.execute(opened)).scalar_one_or_none()
        if now - (last or store.created) > store_duties.VERIFY_WITHIN:
            since_when = f"{last:%Y-%m-%d}" if last else f"it was made on {store.created:%Y-%m-%d}"
            items.append(
                ConcernFound(
                    "not-opened",
                    "low",
                    "store",
                    store.name,
                    f"No backup in {store.name} was opened since {since_when}.",
                    "Verify one with its passphrase: fennox backup verify BACKUP",
                    since=last,
                )
            )
    items += [*await _space(session, store, now), *await over_ceiling.concerns(session, store, now)]
    return items


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
            f"{store.name} will be full in about {left.days} days, if it goes on growing as it"
            " does.",
            "Make room, sweep it, or shorten ladders.",
            "Then no backup can be written to it.",
        )
    ]
