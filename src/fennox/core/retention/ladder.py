"""Retention in words: what keeps each backup of one system. Pure.

``everything for 14 days, daily for 60 days, monthly for 7 years, always 3``: a rung keeps the
newest good backup of each of its local periods within its time; ``always n`` keeps the newest n
good ones whatever their age. Backups on hold and the last good one are never removed. A doubtful
backup occupies no rung and stays until a person has looked; so does one with a doubtful date,
because counting a wrong date would remove the right backups. Safety copies occupy no rung and stay
while they are held.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from operator import itemgetter
from typing import Literal, Protocol, assert_never
from zoneinfo import ZoneInfo

from fennox.core.errors import BadInput
from fennox.core.time import aware

Cadence = Literal["everything", "daily", "weekly", "monthly", "yearly"]

_DAYS = {"day": 1, "week": 7, "month": 31, "year": 366}
_RUNG = re.compile(
    r"(everything|daily|weekly|monthly|yearly) for (\d{1,4}) (day|week|month|year)s?\Z"
)
_ALWAYS = re.compile(r"always (\d{1,4})\Z")
_REMEDY = "Write for example `everything for 14 days, daily for 60 days, always 3`."


@dataclass(frozen=True)
class Rung:
    cadence: Cadence
    days: int
    text: str


@dataclass(frozen=True)
class OnRung:
    """The newest good backup of its period."""

    rung: Rung


@dataclass(frozen=True)
class AmongNewest:
    """One of the newest good backups, regardless of age."""

    count: int


@dataclass(frozen=True)
class OnHold:
    because: str


@dataclass(frozen=True)
class InDoubt:
    """Until somebody has looked."""


@dataclass(frozen=True)
class DateInDoubt:
    """A ladder that counted by a wrong date would let the right ones go."""


@dataclass(frozen=True)
class NoLadder:
    """No routine selects its system."""


@dataclass(frozen=True)
class OfRetired:
    """Its system is retired and its backups have not been released."""


Reason = OnRung | AmongNewest | OnHold | InDoubt | DateInDoubt | NoLadder | OfRetired
"""What keeps a backup."""


def in_words(reason: Reason) -> str:
    match reason:
        case OnRung(rung):
            return rung.text
        case AmongNewest(count):
            return f"always {count}"
        case OnHold(because):
            return f"on hold: {because}" if because else "on hold"
        case InDoubt():
            return "doubtful, until somebody has looked"
        case DateInDoubt():
            return "its date is in doubt"
        case NoLadder():
            return "no routine's ladder applies"
        case OfRetired():
            return "the system is retired: all stays until it is let go"
        case _:
            assert_never(reason)


def end(time: datetime, reason: Reason) -> datetime | None:
    """When this reason ends by itself for a backup of ``time``; None: never."""
    match reason:
        case OnRung(rung):
            return time + timedelta(days=rung.days)
        case AmongNewest() | OnHold() | InDoubt() | DateInDoubt() | NoLadder() | OfRetired():
            return None  # `always n` lasts until newer ones have come
        case _:
            assert_never(reason)


@dataclass(frozen=True)
class Ladder:
    rungs: tuple[Rung, ...]
    always: int

    def __str__(self) -> str:
        return ", ".join([*(rung.text for rung in self.rungs), f"always {self.always}"])


class Ranked(Protocol):
    """A backup as a ladder sees it. ``held``: the reason, if on hold; ``safety``: occupies no
    rung.
    """

    @property
    def id(self) -> str: ...
    @property
    def time(self) -> datetime: ...
    @property
    def held(self) -> str | None: ...
    @property
    def doubtful(self) -> bool: ...
    @property
    def safety(self) -> bool: ...


def _period_of(cadence: Cadence) -> Callable[[datetime], object] | None:
    """A key shared by all moments of a period, local time; None: every moment is its own period."""
    match cadence:
        case "everything":
            return None
        case "daily":
            return datetime.date
        case "weekly":
            return lambda local: (local.toordinal() - 1) // 7  # the first day of all was a Monday
        case "monthly":
            return lambda local: (local.year, local.month)
        case "yearly":
            return lambda local: local.year
        case _:
            assert_never(cadence)


@lru_cache(maxsize=256)
def parse(text: str) -> Ladder:
    rungs: list[Rung] = []
    always: int | None = None
    for piece in (part.strip().lower() for part in text.split(",")):
        rung, kept = _RUNG.match(piece), _ALWAYS.match(piece)
        if rung is not None:
            cadence: Cadence = rung.group(1)  # type: ignore[assignment]
            rungs.append(Rung(cadence, int(rung.group(2)) * _DAYS[rung.group(3)], piece))
        elif kept is not None and always is None:
            always = int(kept.group(1))
        else:
            raise BadInput(f"{piece!r} in the ladder is not understood.", _REMEDY)
    if any(rung.days == 0 for rung in rungs) or always == 0:
        raise BadInput("A rung that keeps nothing is a mistake.", _REMEDY)
    if not rungs and always is None:
        raise BadInput("The ladder keeps nothing.", _REMEDY)
    return Ladder(tuple(rungs), always or 1)


def kept(
    items: Sequence[Ranked],
    ladder: Ladder,
    now: datetime,
    zone: ZoneInfo,
    *,
    undated: Collection[str] = (),
) -> dict[str, list[Reason]]:
    """The reasons that keep each backup; an empty list: removable. ``undated``: backups with
    doubtful dates.
    """
    now = aware(now)
    reasons: dict[str, list[Reason]] = {}
    good: list[tuple[datetime, str, list[Reason]]] = []
    doubted, undatable, newest = InDoubt(), DateInDoubt(), AmongNewest(ladder.always)
    for item in items:
        why: list[Reason] = []
        reasons[item.id] = why
        if item.held is not None:
            why.append(OnHold(item.held))
        if item.doubtful:
            why.append(doubted)
        elif item.id in undated:
            why.append(undatable)
        elif not item.safety:
            good.append((item.time, item.id, why))
    good.sort(key=itemgetter(0, 1))
    local: list[datetime] = []  # of good backups, newest first, computed on demand
    for rung in ladder.rungs:
        begin = bisect_left(good, now - timedelta(days=rung.days), key=itemgetter(0))
        _stand_on(rung, good[begin:], local, zone)
    for _, _, why in good[-ladder.always :]:
        why.append(newest)
    return reasons


def _stand_on(
    rung: Rung,
    good: list[tuple[datetime, str, list[Reason]]],
    local: list[datetime],
    zone: ZoneInfo,
) -> None:
    """The newest backup of each period occupies the rung. ``good``: backups within its time, oldest
    first; ``local``: their local times, newest first, as far as computed.
    """
    period_of = _period_of(rung.cadence)
    seen: set[object] = set()
    on_rung = OnRung(rung)
    for number, (time, _, why) in enumerate(reversed(good)):
        if period_of is not None:
            if number == len(local):
                local.append(time.astimezone(zone))
            period = period_of(local[number])
            if period in seen:
                continue
            seen.add(period)
        why.append(on_rung)


def goes(time: datetime, reasons: Iterable[Reason]) -> datetime | None:
    """Earliest time when nothing keeps a backup any more; None: some reason never ends by itself.

    ``reasons`` as :func:`kept` gives them.
    """
    last = time
    for reason in reasons:
        ends = end(time, reason)
        if ends is None:
            return None
        last = max(last, ends)
    return last
