"""Gathers the evidence by which the clock is judged, and keeps what a person has confirmed of
it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal, assert_never

from sqlalchemy import Select, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import (
    Backup,
    ClockAcceptance,
    ConcernRow,
    Run,
    ServiceState,
    StoreRow,
    System,
    Worker,
    constant,
)
from fennox.core.facts.concerns import ConcernFound
from fennox.core.schedule import moments
from fennox.core.schedule.moments import (
    Apart,
    ClockEvidence,
    Disordered,
    Doubt,
    Event,
    FromFuture,
    Jumped,
    ObservedClock,
    misdated,
    sentence,
)
from fennox.service.machines.context import Context

OWN = "the clock of this service"
_OF_A_STORE = "the clock of the store {name}"
_OF_A_WORKER = "the clock of the worker {name} ({id})"
_HEARD = timedelta(seconds=30)  # since a worker said by how much its clock differs
_SWEEP_OF = "the last sweep of {name}"
_LEAP = timedelta(
    days=40
)  # that a simulated clock may go at once: to the next due time of a monthly routine
WAITS = (
    "Until then nothing expires, is swept, condemned or thinned, and nothing is called late. Takes"
    " go on."
)
_REMEDY = (
    "Look: fennox doctor clocks. Mend the clock; or, if it is right: fennox doctor clocks --confirm"
)


@dataclass(frozen=True)
class Judged:
    """What was compared, and what speaks against the clock."""

    evidence: ClockEvidence
    doubts: tuple[Doubt, ...]

    @property
    def sentences(self) -> list[str]:
        return [_capital(sentence(doubt, self.evidence.own)) + "." for doubt in self.doubts]


async def judge(
    context: Context, session: AsyncSession, *, own: str = OWN, seen: Sequence[SeenDate] = ()
) -> Judged:
    """Judge the clock of this process. ``seen``: what else bears a date, as in a store that was
    just listed.
    """
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
        of_store = ahead + timedelta(
            seconds=float(skew or 0)
        )  # it is kept against the database's clock
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
    """The newest object of a kind in a store, by the date in its name."""

    what: Literal["record", "sweep list"]
    store: str
    at: datetime


async def _seen(
    session: AsyncSession, accepted: dict[str, ClockAcceptance], seen: Sequence[SeenDate]
) -> list[Event]:
    """What a person has confirmed of backups and sweeps, and what is known to be misdated, is known
    in a store too.
    """
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
    """Ladders and stores have been looked after, by a clock that nothing speaks against."""
    last = func.coalesce(select(func.max(Run.number)).scalar_subquery(), 0)
    await session.execute(update(ServiceState).values(tended=now, tended_run=last, apart=False))


_TAKEN_SINCE = (
    select(Run.id)
    .where(Run.number > select(ServiceState.tended_run).scalar_subquery())
    .where(Run.kind == constant("take"))
)


async def suspect(session: AsyncSession, judged: Judged) -> None:
    """Backups taken while the clocks disagree may bear any date: no ladder counts by it, and they
    stay.

    What disagrees is remembered: once it is right again, all that is left is that no tending was
    for long.
    """
    if not _only_jumped(judged):
        await session.execute(update(ServiceState).values(apart=True))
    taken = update(Backup).where(Backup.run_id.in_(_TAKEN_SINCE), Backup.misdated.is_(False))
    await session.execute(taken.values(misdated=True).execution_options(synchronize_session=False))


def concern(judged: Judged) -> ConcernFound | None:
    """What waits, and why; None: the clock is believed."""
    if not judged.doubts:
        return None
    text = (
        "The clocks disagree:"
        f" {'; '.join(sentence(doubt, judged.evidence.own) for doubt in judged.doubts)}."
    )
    return ConcernFound("clocks", "high", "service", "clocks", text, _REMEDY, WAITS)


async def said_by_a_service(session: AsyncSession) -> str | None:
    """What the concern about the clocks says, while it stands."""
    standing = select(ConcernRow.text).where(
        ConcernRow.code == "clocks", ConcernRow.ended.is_(None)
    )
    return (await session.execute(standing)).scalar_one_or_none()


async def confirm(
    session: AsyncSession, judged: Judged, by: str, *, believe: bool = False
) -> list[str]:
    """A person says that the clock is right: what disagrees with it is known from now on. What that
    means, in words.

    Backups whose dates cannot be right then stay, marked as such, until a person clears them; so do
    those that were taken meanwhile, unless the clock only seemed to have jumped all that time, or
    the person says that they are right (``believe``).
    """
    now = judged.evidence.now
    said: list[str] = []
    for doubt in judged.doubts:
        match doubt:
            case Apart(clock, ahead):
                await _accept(session, clock, now, by, ahead=ahead.total_seconds())
                said.append(f"{_capital(clock)} may go on being {moments.span(abs(ahead))} apart.")
            case FromFuture(event, at, _):
                await _accept(session, event, now, by, until=at)
                said.append(f"{_capital(event)} may be dated {at:%Y-%m-%d %H:%M} UTC.")
            case Jumped():
                said.append("The time since the last tending is as it should be.")
            case Disordered():
                said.append(
                    "Backups that are dated in the wrong order are no longer counted by their"
                    " dates."
                )
            case _:
                assert_never(doubt)
    apart = bool((await session.execute(select(ServiceState.apart))).scalar_one_or_none())
    if believe or (judged.doubts and _only_jumped(judged) and not apart):
        await _believe(session, _TAKEN_SINCE if not believe else None)
    elif left := await _doubted(session):
        said.append(
            f"{_backups(left)} taken while clocks disagreed, and counted by no date until you have"
            " looked."
        )
    # also of systems that no tending has looked at since: else their dates are in doubt again a
    # moment later
    if wrong := await _mark_misdated(session, now):
        said.append(
            f"{wrong} backups with a wrong date stay until you clear them."
            if wrong > 1
            else "A backup with a wrong date stays until you clear it."
        )
    if said or believe:
        await tended(session, now)
    return said


def _only_jumped(judged: Judged) -> bool:
    return all(isinstance(doubt, Jumped) for doubt in judged.doubts)


def _backups(count: int) -> str:
    return "1 backup was" if count == 1 else f"{count} backups were"


async def _doubted(session: AsyncSession) -> int:
    """How many of those that were taken since the last tending stay as their dates are in doubt."""
    counted = select(func.count()).where(Backup.misdated, Backup.run_id.in_(_TAKEN_SINCE))
    return int((await session.execute(counted)).scalar_one())


async def _believe(session: AsyncSession, runs: Select[str] | None) -> None:
    """Count by the dates of backups again that were in doubt: of these runs, or of all."""
    doubted = update(Backup).where(Backup.misdated)
    if runs is not None:
        doubted = doubted.where(Backup.run_id.in_(runs))
    await session.execute(
        doubted.values(misdated=False).execution_options(synchronize_session=False)
    )


async def misdated_backups(session: AsyncSession) -> int:
    """How many backups stay because their dates are in doubt."""
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
    """Of every system whose backups' dates are in doubt the fewest that must be wrong."""
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


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
