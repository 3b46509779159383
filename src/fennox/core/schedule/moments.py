"""Which time it is, judged from evidence. Pure.

A clock is evidence, not authority: by a clock that was a year ahead for two minutes, good backups
were removed. So before anything is marked, removed or called late, the clock in use is compared
with other clocks, and with the dates of things that have already happened. Where they disagree
nothing goes until a person has looked.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import assert_never

from fennox.core.words import first_few

APART = timedelta(minutes=2)  # two clocks that differ by more disagree
JUMP = timedelta(days=1)  # a clock that went further than this between two tendings may have jumped

DATABASE = "PostgreSQL"
BACKUP, RUN, TENDING = "the newest backup", "the newest run", "the last tending"
# seconds that a machine's clock may be off before anybody hears of it
MOST_SKEW = 60.0


@dataclass(frozen=True)
class ObservedClock:
    """Another clock, by how much it was ahead of ours when both were read.

    ``accepted``: the difference that a person has confirmed, as of a far side that keeps another
    time. One that has been mended since agrees all the same.
    """

    name: str
    ahead: timedelta
    accepted: timedelta = timedelta()


@dataclass(frozen=True)
class Event:
    """Something that has happened, with the date it bears. A person has confirmed dates up to
    ``accepted``.
    """

    name: str
    at: datetime
    accepted: datetime | None = None


@dataclass(frozen=True)
class ClockEvidence:
    """The evidence for one judgement.

    ``now``: by the clock that is judged, which is called ``own``. ``tended``: when stores and
    ladders were last tended, by that clock. ``disordered``: systems with backups that are dated
    before backups taken earlier.
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
    """Something has happened at a time that is still to come."""

    event: str
    at: datetime
    ahead: timedelta


@dataclass(frozen=True)
class Jumped:
    """The clock went further since the last tending than it should have."""

    since: datetime
    by: timedelta


@dataclass(frozen=True)
class Disordered:
    """Backups of these systems are dated before backups that were taken earlier."""

    systems: tuple[str, ...]


Doubt = Apart | FromFuture | Jumped | Disordered


def judge(evidence: ClockEvidence) -> tuple[Doubt, ...]:
    """Why the clock may be wrong; empty: nothing speaks against it."""
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
    """The moment, unless it is still to come: a wrong clock wrote it, and it says nothing about how
    long ago it was.
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
    """Sequence numbers of backups of one system whose dates cannot all be right.

    Backups are numbered in the order in which they were taken. So a date that is still to come is
    wrong, and of two that stand in the other order than their numbers at least one is. Which one
    cannot be known: both are in doubt.
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
    """The fewest backups whose dates must be wrong so that all others agree with the order and with
    ``now``.

    This is what a person confirms who says that the clock is right now: these stay in doubt, the
    others do not.
    """
    rest = [number for number in sorted(dates) if not is_future(dates[number], now)]
    kept = _longest_in_order([dates[number] for number in rest])
    agreeing = {rest[place] for place in kept}
    return frozenset(number for number in dates if number not in agreeing)


def _longest_in_order(moments: Sequence[datetime]) -> list[int]:
    """Places of a longest subsequence that never goes back (patience sorting)."""
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
