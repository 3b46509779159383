"""Gathering the evidence to judge the clock, and storing a person's confirmations."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.runs import Run, Worker
from fennox.catalogue.models.service import ClockAcceptance, ServiceState
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import ConcernFound
from fennox.core.schedule import moments
from fennox.core.schedule.moments import (
    ClockEvidence,
    Doubt,
    Event,
    Jumped,
    ObservedClock,
    sentence,
)
from fennox.service.machines.context import Context

OWN = "the clock of this service"
_OF_A_STORE = "the clock of the store {name}"
_OF_A_WORKER = "the clock of the worker {name} ({id})"
_HEARD = timedelta(seconds=30)  # age of a worker's report of its clock offset
_SWEEP_OF = "the last sweep of {name}"
_LEAP = timedelta(
    days=40
)  # largest step of a simulated clock: to the next due time of a monthly routine
WAITS = (
    "Until then nothing expires, is swept, condemned or thinned, and nothing is called late. Takes"
    " continue."
)
_REMEDY = (
    "Look: fennox doctor clocks. Correct the clock; or, if it is right: fennox doctor clocks"
    " --confirm"
)


@dataclass(frozen=True)
class Judged:
    """The comparison, and the doubts about the clock."""

    evidence: ClockEvidence
    doubts: tuple[Doubt, ...]

    @property
    def sentences(self) -> list[str]:
        return [capital(sentence(doubt, self.evidence.own)) + "." for doubt in self.doubts]


async def judge(
    context: Context, session: AsyncSession, *, own: str = OWN, seen: Sequence[SeenDate] = ()
) -> Judged:
    """Judge this process's clock. ``seen``: other dated events, such as in a store just listed."""
    accepted = {row.name: row for row in (await session.execute(select(ClockAcceptance))).scalars()}
    now = context.now()
    evidence = ClockEvidence(
        own=own,
        now=now,
        clocks=tuple(await _clocks(context, session, accepted)),
        events=(*await _events(session, accepted), *await _seen(session, accepted, seen)),
        tended=(await session.execute(select(ServiceState.tended))).scalar_one_or_none(),
        jump=_LEAP if context.simulated else moments.JUMP,
        disordered=tuple((await session.execute(_DISORDERED)).scalars()),
    )
    return Judged(evidence, moments.judge(evidence))


async def _clocks(
    context: Context, session: AsyncSession, accepted: dict[str, ClockAcceptance]
) -> list[ObservedClock]:
    """A simulated clock is compared with no real one."""
    if context.simulated:
        return []
    database = (await session.execute(select(func.clock_timestamp()))).scalar_one()
    ahead = database - context.now()
    found = [_clock(moments.DATABASE, ahead, accepted)]
    skews = (
        select(StoreRow.name, StoreRow.skew)
        .where(StoreRow.skew.is_not(None))
        .order_by(StoreRow.name)
    )
    for name, skew in await session.execute(skews):
        # stored relative to the database's clock
        of_store = ahead + timedelta(seconds=float(skew or 0))
        found.append(_clock(_OF_A_STORE.format(name=name), of_store, accepted))
    heard = (
        Worker.stopped.is_(None),
        Worker.seen.between(func.now() - _HEARD, func.now() + _HEARD),
    )
    workers = (
        select(Worker.name, Worker.id, Worker.skew).where(*heard).order_by(Worker.name, Worker.id)
    )
    for name, id_, skew in await session.execute(workers):
        of_worker = ahead + timedelta(seconds=skew)
        found.append(_clock(_OF_A_WORKER.format(name=name, id=id_[:8]), of_worker, accepted))
    return found


def _clock(name: str, ahead: timedelta, accepted: dict[str, ClockAcceptance]) -> ObservedClock:
    known = accepted.get(name)
    return ObservedClock(
        name, ahead, timedelta(seconds=known.ahead or 0) if known is not None else timedelta()
    )


_NEWEST_BACKUP = select(func.max(Backup.time)).where(Backup.misdated.is_(False))
_NEWEST_RUN = select(func.max(Run.created))
_TENDED = select(ServiceState.tended)
_SWEPT = (
    select(StoreRow.name, StoreRow.swept).where(StoreRow.swept.is_not(None)).order_by(StoreRow.name)
)
_DISORDERED = select(System.name).where(System.disordered).order_by(System.name)


async def _events(session: AsyncSession, accepted: dict[str, ClockAcceptance]) -> list[Event]:
    dates: dict[str, datetime | None] = {
        moments.BACKUP: (await session.execute(_NEWEST_BACKUP)).scalar_one_or_none(),
        moments.RUN: (await session.execute(_NEWEST_RUN)).scalar_one_or_none(),
        moments.TENDING: (await session.execute(_TENDED)).scalar_one_or_none(),
        **{_SWEEP_OF.format(name=name): at for name, at in await session.execute(_SWEPT)},
    }
    return [
        Event(name, at, accepted[name].until if name in accepted else None)
        for name, at in dates.items()
        if at is not None
    ]


@dataclass(frozen=True)
class SeenDate:
    """The date of the newest object of a kind in a store, by its name."""

    what: Literal["record", "sweep list"]
    store: str
    at: datetime


async def _seen(
    session: AsyncSession, accepted: dict[str, ClockAcceptance], seen: Sequence[SeenDate]
) -> list[Event]:
    """Confirmations of backups and sweeps, and known wrong dates, also apply to a store."""
    if not seen:
        return []
    misdated = (
        await session.execute(select(func.max(Backup.time)).where(Backup.misdated))
    ).scalar_one_or_none()
    found = []
    for item in seen:
        name = moments.BACKUP if item.what == "record" else _SWEEP_OF.format(name=item.store)
        known = [
            accepted[name].until if name in accepted else None,
            misdated if item.what == "record" else None,
        ]
        until = max((moment for moment in known if moment is not None), default=None)
        found.append(Event(f"the newest {item.what} in {item.store}", item.at, until))
    return found


async def tended(session: AsyncSession, now: datetime) -> None:
    """Record that ladders and stores were tended, by a clock without contrary evidence."""
    last = func.coalesce(select(func.max(Run.number)).scalar_subquery(), 0)
    await session.execute(update(ServiceState).values(tended=now, tended_run=last, apart=False))


TAKEN_SINCE = (
    select(Run.id)
    .where(Run.number > select(ServiceState.tended_run).scalar_subquery())
    .where(Run.kind == constant("take"))
)


async def suspect(session: AsyncSession, judged: Judged) -> None:
    """Backups taken while the clocks disagree may have any date: no ladder uses it, and they stay.
    The disagreement is recorded, because once the clock is right again, only the long gap since the
    last tending would remain visible.
    """
    if not only_jumped(judged):
        await session.execute(update(ServiceState).values(apart=True))
    taken = update(Backup).where(Backup.run_id.in_(TAKEN_SINCE), Backup.misdated.is_(False))
    await session.execute(taken.values(misdated=True).execution_options(synchronize_session=False))


def concern(judged: Judged) -> ConcernFound | None:
    """What waits, and why; None: the clock is trusted."""
    if not judged.doubts:
        return None
    text = (
        "The clocks disagree:"
        f" {'; '.join(sentence(doubt, judged.evidence.own) for doubt in judged.doubts)}."
    )
    return ConcernFound("clocks", "high", "service", "clocks", text, _REMEDY, WAITS)


async def said_by_a_service(session: AsyncSession) -> str | None:
    """The text of the concern about the clocks."""
    standing = select(ConcernRow.text).where(
        ConcernRow.code == "clocks", ConcernRow.ended.is_(None)
    )
    return (await session.execute(standing)).scalar_one_or_none()


def only_jumped(judged: Judged) -> bool:
    return all(isinstance(doubt, Jumped) for doubt in judged.doubts)


def capital(text: str) -> str:
    return text[:1].upper() + text[1:]
