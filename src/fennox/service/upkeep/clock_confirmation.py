"""A person's confirmation of the clocks, and backups with wrong dates."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime
from typing import assert_never

from sqlalchemy import Select, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.service import ClockAcceptance, ServiceState
from fennox.catalogue.models.systems import System
from fennox.core.schedule import moments
from fennox.core.schedule.moments import (
    Apart,
    Disordered,
    Doubt,
    FromFuture,
    Jumped,
    misdated,
)
from fennox.service.upkeep.clock_evidence import TAKEN_SINCE, Judged, capital, only_jumped, tended


async def confirm(
    session: AsyncSession, judged: Judged, by: str, *, believe: bool = False
) -> list[str]:
    """Confirm the clock: whatever disagrees with it is accepted from now on. Returns the
    consequences, as text. Backups whose dates cannot be right stay, marked, until a person clears
    them. So do those taken meanwhile, unless the clock only seemed to have jumped, or the person
    confirms their dates (``believe``).
    """
    now = judged.evidence.now
    said = [await _accepted(session, doubt, now, by) for doubt in judged.doubts]
    apart = bool((await session.execute(select(ServiceState.apart))).scalar_one_or_none())
    if believe or (judged.doubts and only_jumped(judged) and not apart):
        await _believe(session, TAKEN_SINCE if not believe else None)
    elif left := await _doubted(session):
        said.append(
            f"{_backups(left)} taken while clocks disagreed, and counted by no date until you have"
            " looked."
        )
    # also for systems not tended since; otherwise their dates would be in doubt again a moment
    # later
    if wrong := await _mark_misdated(session, now):
        stay = "backup stays" if wrong == 1 else "backups stay"
        said.append(f"{wrong} {stay} until you clear {'it' if wrong == 1 else 'them'}: wrong date.")
    if said or believe:
        await tended(session, now)
    return said


async def _accepted(session: AsyncSession, doubt: Doubt, now: datetime, by: str) -> str:
    """The consequences, as text."""
    match doubt:
        case Apart(clock, ahead):
            await _accept(session, clock, now, by, ahead=ahead.total_seconds())
            return f"{capital(clock)} may stay {moments.span(abs(ahead))} apart."
        case FromFuture(event, at, _):
            await _accept(session, event, now, by, until=at)
            return f"{capital(event)} may be dated {at:%Y-%m-%d %H:%M} UTC."
        case Jumped():
            return "The time since the last tending is as it should be."
        case Disordered():
            return "Backups that are dated in the wrong order are no longer counted by date."
        case _:
            assert_never(doubt)


def _backups(count: int) -> str:
    return "1 backup was" if count == 1 else f"{count} backups were"


async def _doubted(session: AsyncSession) -> int:
    """Number of backups since the last tending that stay because their dates are in doubt."""
    counted = select(func.count()).where(Backup.misdated, Backup.run_id.in_(TAKEN_SINCE))
    return int((await session.execute(counted)).scalar_one())


async def _believe(session: AsyncSession, runs: Select[str] | None) -> None:
    """Clear doubts about dates of backups: of these runs, or of all."""
    doubted = update(Backup).where(Backup.misdated)
    if runs is not None:
        doubted = doubted.where(Backup.run_id.in_(runs))
    await session.execute(
        doubted.values(misdated=False).execution_options(synchronize_session=False)
    )


async def misdated_backups(session: AsyncSession) -> int:
    """Number of backups that stay because their dates are in doubt."""
    counted = select(func.count()).where(Backup.misdated, Backup.expired.is_(False))
    return int((await session.execute(counted)).scalar_one())


async def _accept(
    session: AsyncSession,
    name: str,
    now: datetime,
    by: str,
    *,
    ahead: float | None = None,
    until: datetime | None = None,
) -> None:
    await session.merge(ClockAcceptance(name=name, ahead=ahead, until=until, at=now, by=by))


async def _mark_misdated(session: AsyncSession, now: datetime) -> int:
    """For every system with doubtful dates, the smallest set of backups that must be wrong."""
    standing = (Backup.misdated.is_(False), Backup.sequence > 0, Backup.expired.is_(False))
    late = select(Backup.system_id).where(Backup.time > now + moments.APART, *standing)
    taken_later = func.min(Backup.time).over(
        partition_by=Backup.system_id, order_by=Backup.sequence.desc(), rows=(None, -1)
    )
    ordered = (
        select(Backup.system_id, Backup.time, taken_later.label("later"))
        .where(*standing)
        .subquery()
    )
    contradicted = select(ordered.c.system_id).where(
        ordered.c.time > ordered.c.later + moments.APART
    )
    every = select(System.id).where(System.id.in_(late) | System.id.in_(contradicted))
    rows = select(Backup.system_id, Backup.id, Backup.sequence, Backup.time).where(
        Backup.system_id.in_(every), *standing
    )
    dates: dict[str, dict[int, datetime]] = defaultdict(dict)
    ids: dict[tuple[str, int], str] = {}
    for system, backup, sequence, time in await session.execute(rows):
        dates[system][sequence] = time
        ids[system, sequence] = backup
    wrong = [ids[system, number] for system, its in dates.items() for number in misdated(its, now)]
    await session.execute(
        update(Backup)
        .where(Backup.id.in_(wrong))
        .values(misdated=True)
        .execution_options(synchronize_session=False)
    )
    await session.execute(update(System).where(System.disordered).values(disordered=False))
    return len(wrong)
