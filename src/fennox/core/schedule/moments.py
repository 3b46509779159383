"""Judging the time from evidence. Pure. A clock is evidence, not authority: a clock that was a year
ahead for two minutes once led to the removal of good backups. So before anything is marked, removed
or reported late, the clock in use is compared with other clocks and with the dates of past events.
If they disagree, nothing is removed until a person has looked.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import assert_never

from fennox.core.words import first_few

APART = timedelta(minutes=2)  # clocks that differ by more disagree
JUMP = timedelta(days=1)  # a larger advance between two tendings may be a jump of the clock

DATABASE = "PostgreSQL"
BACKUP, RUN, TENDING = "the newest backup", "the newest run", "the last tending"
# seconds a machine's clock may be off before it is reported
MOST_SKEW = 60.0


@dataclass(frozen=True)
class ObservedClock:
    """Another clock, and by how much it was ahead of ours. ``accepted``: a difference confirmed by
    a person, as for a far side set to another time. A clock corrected since then also agrees.
    """

    name: str
    ahead: timedelta
    accepted: timedelta = timedelta()


@dataclass(frozen=True)
class Event:
    """A past event with its recorded date. ``accepted``: dates up to here are confirmed by a
    person.
    """

    name: str
    at: datetime
    accepted: datetime | None = None


@dataclass(frozen=True)
class ClockEvidence:
    """The evidence for one judgement. ``now``: by the judged clock, named ``own``. ``tended``: when
    stores and ladders were last tended, by that clock. ``disordered``: systems with backups dated
    before earlier backups.
    """

    own: str
    now: datetime
    clocks: tuple[ObservedClock, ...] = ()
    events: tuple[Event, ...] = ()
    tended: datetime | None = None
    jump: timedelta = JUMP
    disordered: tuple[str, ...] = ()


@dataclass(frozen=True)
class Apart:
    """Two clocks disagree."""

    clock: str
    ahead: timedelta


@dataclass(frozen=True)
class FromFuture:
    """A past event bears a future date."""

    event: str
    at: datetime
    ahead: timedelta


@dataclass(frozen=True)
class Jumped:
    """The clock advanced more since the last tending than it should have."""

    since: datetime
    by: timedelta


@dataclass(frozen=True)
class Disordered:
    """Backups of these systems are dated before backups that were taken earlier."""

    systems: tuple[str, ...]


Doubt = Apart | FromFuture | Jumped | Disordered


def judge(evidence: ClockEvidence) -> tuple[Doubt, ...]:
    """Reasons to doubt the clock; empty: none."""
    doubts: list[Doubt] = [
        Apart(clock.name, clock.ahead)
        for clock in evidence.clocks
        if min(abs(clock.ahead), abs(clock.ahead - clock.accepted)) > APART
    ]
    for event in evidence.events:
        accepted = event.accepted is not None and event.at <= event.accepted
        if is_future(event.at, evidence.now) and not accepted:
            doubts.append(FromFuture(event.name, event.at, event.at - evidence.now))
    if evidence.tended is not None and evidence.now - evidence.tended > evidence.jump:
        doubts.append(Jumped(evidence.tended, evidence.now - evidence.tended))
    if evidence.disordered:
        doubts.append(Disordered(evidence.disordered))
    return tuple(doubts)


def is_future(moment: datetime, now: datetime) -> bool:
    """Whether a date lies further ahead than clocks may differ."""
    return moment - now > APART


def past(moment: datetime | None, now: datetime) -> datetime | None:
    """The moment, or None if it lies in the future: a wrong clock wrote it, and its age is
    unknown.
    """
    return None if moment is None or is_future(moment, now) else moment


def sentence(doubt: Doubt, own: str) -> str:
    """One doubt for people, without the full stop."""
    match doubt:
        case Apart(clock, ahead):
            return (
                f"{clock} is {span(abs(ahead))} {'ahead of' if ahead > timedelta() else 'behind'}"
                f" {own}"
            )
        case FromFuture(event, at, ahead):
            return f"{event} is dated {at:%Y-%m-%d %H:%M} UTC, {span(ahead)} in the future of {own}"
        case Jumped(since, by):
            return (
                f"{own} went {span(by)} forward since the last tending at"
                f" {since:%Y-%m-%d %H:%M} UTC"
            )
        case Disordered(systems):
            return (
                f"backups of {first_few(systems)} are dated before backups that were taken earlier"
            )
        case _:
            assert_never(doubt)


def span(length: timedelta) -> str:
    """``3 minutes``, ``26 hours``, ``365 days``."""
    seconds = length.total_seconds()
    for unit, each in (("day", 86400), ("hour", 3600), ("minute", 60)):
        if seconds >= 2 * each or (unit == "minute" and seconds >= each):
            count = round(seconds / each)
            return f"{count} {unit}{'' if count == 1 else 's'}"
    return f"{seconds:.0f} seconds"


def dates_in_doubt(dates: Mapping[int, datetime], now: datetime) -> frozenset[int]:
    """Sequence numbers of one system's backups whose dates cannot all be right. Backups are
    numbered in the order they were taken. So a future date is wrong, and of two dates in the
    opposite order of their numbers at least one is wrong. Which one is unknown, so both are in
    doubt.
    """
    doubtful = {number for number, at in dates.items() if is_future(at, now)}
    rest = sorted(number for number in dates if number not in doubtful)
    latest: datetime | None = None
    for number in rest:
        if latest is not None and dates[number] < latest - APART:
            doubtful.add(number)
        latest = dates[number] if latest is None else max(latest, dates[number])
    earliest: datetime | None = None
    for number in reversed(rest):
        if earliest is not None and dates[number] > earliest + APART:
            doubtful.add(number)
        earliest = dates[number] if earliest is None else min(earliest, dates[number])
    return frozenset(doubtful)


def misdated(dates: Mapping[int, datetime], now: datetime) -> frozenset[int]:
    """The smallest set of backups whose dates must be wrong for all others to agree with their
    order and with ``now``. A person who confirms the present clock confirms all others; these stay
    in doubt.
    """
    rest = [number for number in sorted(dates) if not is_future(dates[number], now)]
    kept = _longest_in_order([dates[number] for number in rest])
    agreeing = {rest[place] for place in kept}
    return frozenset(number for number in dates if number not in agreeing)


def _longest_in_order(moments: Sequence[datetime]) -> list[int]:
    """Indexes of a longest non-decreasing subsequence (patience sorting)."""
    tails: list[datetime] = []
    tail_places: list[int] = []
    before: list[int | None] = []
    for place, moment in enumerate(moments):
        pile = bisect_right(tails, moment)
        before.append(tail_places[pile - 1] if pile else None)
        if pile == len(tails):
            tails.append(moment)
            tail_places.append(place)
        else:
            tails[pile], tail_places[pile] = moment, place
    found: list[int] = []
    at = tail_places[-1] if tail_places else None
    while at is not None:
        found.append(at)
        at = before[at]
    return found[::-1]
