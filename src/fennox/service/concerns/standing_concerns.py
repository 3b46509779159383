"""Standing, unmuted concerns: the worst ones and the total."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import ConcernRow

_OF_ONE_CAUSE, _WORST = 10, 100  # concerns that an answer names


WORST_FIRST = (
    ConcernRow.severity,
    ConcernRow.since,
    ConcernRow.about,
    ConcernRow.key,
)  # high comes before low


@dataclass(frozen=True)
class StandingConcerns:
    """Standing, unmuted concerns: the worst ones and the total, with muted ones separate.
    ``of_cause``: number per cause and severity, and start of the first.
    """

    worst: list[ConcernRow]
    of_cause: dict[tuple[str, str], tuple[int, datetime]]
    in_all: int
    muted: int


async def standing(session: AsyncSession, now: datetime) -> StandingConcerns:
    """Worst and oldest first; only a few per cause, so that one cause does not hide the others."""
    loud = (ConcernRow.ended.is_(None), func.coalesce(ConcernRow.muted_until, now) <= now)
    alike, oldest_first = (
        (ConcernRow.cause, ConcernRow.severity),
        (ConcernRow.since, ConcernRow.about, ConcernRow.key),
    )
    # in the order of an index
    place = func.row_number().over(partition_by=alike, order_by=oldest_first)
    ranked = select(*WORST_FIRST, place.label("place")).where(*loud).subquery()
    few = select(ranked.c.key).where(ranked.c.place <= _OF_ONE_CAUSE)
    first = few.order_by(*(ranked.c[column.key] for column in WORST_FIRST)).limit(_WORST)
    worst = select(ConcernRow).where(ConcernRow.key.in_(first)).order_by(*WORST_FIRST)
    counts = select(func.count(), func.count().filter(loud[1])).where(loud[0])
    every, in_all = (await session.execute(counts)).one()
    named = list((await session.execute(worst)).scalars())
    of_these = ConcernRow.cause.in_({row.cause for row in named})
    sizes = (
        select(*alike, func.count(), func.min(ConcernRow.since))
        .where(*loud, of_these)
        .group_by(*alike)
    )
    of_cause = {
        (cause, severity): (count, since)
        for cause, severity, count, since in await session.execute(sizes)
    }
    return StandingConcerns(named, of_cause, in_all, every - in_all)
