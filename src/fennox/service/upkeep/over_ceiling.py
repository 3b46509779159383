"""Stores that hold more than their ceiling: reported first, thinned after a grace period, never
below what ``always n`` keeps.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Copy
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import StoreRow, StoreSpace
from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import ConcernFound
from fennox.core.facts.run_orders import SweepOrder
from fennox.core.retention import ceiling, ladder
from fennox.core.retention.ceiling import Held
from fennox.core.retention.ladder import Reason
from fennox.core.schedule import moments
from fennox.core.words import size
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.retention import routines
from fennox.service.retention.routines import StandingBackup
from fennox.service.upkeep import store_duties

_FRESH = timedelta(days=1)  # an older measurement is repeated before anything is removed


@dataclass(frozen=True)
class Fill:
    """A store's last measured usage and its ceiling, in bytes."""

    at: datetime
    used: int
    limit: int


async def fill(session: AsyncSession, store: StoreRow) -> Fill | None:
    """None: no ceiling, or no measurement yet."""
    wanted = ceiling.parse(store.ceiling)
    newest = (
        select(StoreSpace)
        .where(StoreSpace.store_id == store.id)
        .order_by(StoreSpace.at.desc())
        .limit(1)
    )
    seen = (await session.execute(newest)).scalar_one_or_none()
    if wanted is None or seen is None:
        return None
    limit = wanted.limit(seen.used, seen.free)
    return Fill(seen.at, seen.used, limit) if limit is not None else None


async def thin_out(context: Context) -> None:
    """Mark copies in stores that were over their ceiling for longer than the grace period."""
    now = context.now()
    none: dict[str, object] = {"let_go": False, "let_go_at": None}
    async with context.session() as session:
        for store in (
            (await session.execute(select(StoreRow).where(StoreRow.ceiling != ""))).scalars().all()
        ):
            found = await fill(session, store)
            if found is None or found.used <= found.limit:
                store.over_since = None
                await session.execute(
                    update(Copy).where(Copy.store_id == store.id, Copy.let_go).values(none)
                )
                continue
            if moments.past(store.over_since, now) is None:
                store.over_since = now
            assert store.over_since is not None
            if now - store.over_since < ceiling.GRACE:
                continue
            if now - found.at > _FRESH:
                # earlier removals may have freed space since
                await store_duties.queue_once(context, session, SweepOrder(), store)
                continue
            going = ceiling.thinned(await _held(session, store, now), found.used - found.limit, now)
            mark = update(Copy).where(Copy.store_id == store.id, Copy.backup_id.in_(going))
            mark = mark.values(let_go=True, let_go_at=now)
            await session.execute(mark)
            store.over_since = (
                now  # removals free space only after days; nothing more is removed before
            )
            if going:
                await store_duties.queue_once(context, session, SweepOrder(), store)


async def _held(session: AsyncSession, store: StoreRow, now: datetime) -> list[Held]:
    here = set(
        (await session.execute(select(Copy.backup_id).where(Copy.store_id == store.id))).scalars()
    )
    all_routines = list((await session.execute(select(Routine))).scalars())
    found: list[Held] = []
    systems = (await session.execute(select(System))).scalars().all()
    standing = await routines.backups_of(session, [system.id for system in systems], expired=False)
    for system in systems:
        mine = [routine for routine in all_routines if selectors.takes(routine.systems, system)]
        there = standing[system.id]
        why = routines.what_keeps(system, there, mine, now)
        found += [
            Held(
                backup.id,
                system.id,
                backup.time,
                backup.new_bytes,
                _only_rungs(backup, why[backup.id]),
            )
            for backup in there
            if backup.id in here
        ]
    return found


def _only_rungs(backup: StandingBackup, why: list[Reason]) -> bool:
    """Whether the reasons that keep a backup end by themselves; a hold, ``always n`` and a doubt do
    not.
    """
    return bool(why) and ladder.goes(backup.time, why) is not None


async def concerns(session: AsyncSession, store: StoreRow, now: datetime) -> list[ConcernFound]:
    found = await fill(session, store)
    if found is None or found.used < found.limit * ceiling.NEAR:
        return []
    of = f"{size(found.limit)}, its ceiling of {store.ceiling}"
    text = f"{store.name} holds {size(found.used)} of {of}."
    remedy = (
        f"Raise it (fennox store set {store.name} --ceiling), shorten ladders, or hold what must"
        " stay."
    )
    if found.used <= found.limit:
        means = (
            "Above it, backups go before their time; what is on hold, always kept or the last good"
            " one stays."
        )
        return [ConcernFound("near-ceiling", "low", "store", store.name, text, remedy, means)]
    if any(one.may_go for one in await _held(session, store, now)):
        acts = (store.over_since or now) + ceiling.GRACE
        means = (
            f"From {acts:%Y-%m-%d %H:%M} UTC on backups go before their time, first those that lie"
            " close to others."
        )
    else:
        means = "Nothing more may go: all that is left is on hold, doubtful, or always kept."
    since = store.over_since
    return [
        ConcernFound("over-ceiling", "high", "store", store.name, text, remedy, means, since=since)
    ]
