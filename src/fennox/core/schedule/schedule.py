"""When a routine is due.

A local time that does not exist (clocks go forward) is taken as much later as the clocks jump; one
that exists twice (clocks go back) is taken the first time. So no local day loses a due time or has
one twice. Intervals (`every 5 hours`) count time that really passes, from midnight UTC of 3 January
2000, and know no clock changes.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, time, timedelta
from functools import lru_cache
from hashlib import blake2b
from itertools import islice
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from fennox.core.errors import BadInput
from fennox.core.schedule.due_rules import ANCHOR, Interval, LocalRule, Rule
from fennox.core.schedule.phrases import rule_of
from fennox.core.time import aware

_JUMP = timedelta(hours=3)  # exceeds any clock change
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_BLOCK = timedelta(days=8)  # days whose due times are cached
_BLOCKS = 64  # cached days per schedule
_INSTANT = timedelta(microseconds=1)
_WINDOWS = (
    timedelta(days=2),
    timedelta(days=40),
    timedelta(days=400),
)  # days searched for the newest due time
_QUIET = re.compile(r"(\d{1,2}):(\d{2})\s+to\s+(\d{1,2}):(\d{2})\Z")


@dataclass(frozen=True)
class Schedule:
    """Due times of a rule in a zone."""

    rule: Rule
    zone: ZoneInfo
    _blocks: dict[int, list[datetime]] = field(
        default_factory=dict, init=False, compare=False, repr=False
    )

    def after(self, moment: datetime) -> datetime | None:
        """The first due time after ``moment``, in UTC; None: the rule has ended."""
        return next(self.all_after(moment), None)

    def all_after(self, moment: datetime) -> Iterator[datetime]:
        moment = aware(moment)
        if isinstance(self.rule, Interval):
            return self._passing(self.rule, moment)
        return self._kept(self.rule, moment)

    def _kept(self, rule: LocalRule, moment: datetime) -> Iterator[datetime]:
        """As :meth:`_on_the_wall`, cached for nearby days, because thousands of systems ask for
        them.
        """
        number = (moment - _EPOCH) // _BLOCK
        for near in (number, number + 1):
            block = self._block(rule, near)
            yield from block[bisect_right(block, moment) :]
        yield from self._on_the_wall(rule, _EPOCH + (number + 2) * _BLOCK - _INSTANT)

    def _block(self, rule: LocalRule, number: int) -> list[datetime]:
        if number not in self._blocks:
            begin = _EPOCH + number * _BLOCK
            block = []
            for due in self._on_the_wall(rule, begin - _INSTANT):
                if due >= begin + _BLOCK:
                    break
                block.append(due)
            if len(self._blocks) >= _BLOCKS:
                self._blocks.clear()
            self._blocks[number] = block
        return self._blocks[number]

    def _on_the_wall(self, rule: LocalRule, moment: datetime) -> Iterator[datetime]:
        """Around a clock change local order differs from the order of time, so nearby times are
        sorted.
        """
        near: list[datetime] = []
        given = moment
        local = moment.astimezone(self.zone).replace(tzinfo=None)
        for wall in rule.after(local - _JUMP):
            due = wall.replace(tzinfo=self.zone, fold=0).astimezone(UTC)
            near.append(due)
            near.sort()
            while near and near[0] <= due - _JUMP:
                first = near.pop(0)
                if first > given:
                    given = first
                    yield first
        for first in near:
            if first > given:
                given = first
                yield first

    def _passing(self, rule: Interval, moment: datetime) -> Iterator[datetime]:
        anchor = ANCHOR.replace(tzinfo=UTC)
        due = anchor + ((moment - anchor) // rule.length + 1) * rule.length
        while True:
            if rule.window is None or inside(rule.window, due.astimezone(self.zone).time()):
                yield due
            due += rule.length

    def coming(self, moment: datetime, count: int) -> list[datetime]:
        return list(islice(self.all_after(moment), count))

    def between(self, begin: datetime, end: datetime) -> Iterator[datetime]:
        """Due times in ``(begin, end]``."""
        for due in self.all_after(begin):
            if due > end:
                return
            yield due

    def newest_due(self, since: datetime, now: datetime) -> datetime | None:
        """The newest due time in ``(since, now]``: of several that were missed, only one is caught
        up.
        """
        for window in (*_WINDOWS, now - since):
            begin = max(since, now - window)
            if newest := deque(self.between(begin, now), maxlen=1):
                return newest[0]
        return None

    def count(self, begin: datetime, end: datetime) -> int:
        """How many runs are expected in ``(begin, end]``."""
        return sum(1 for _ in self.between(begin, end))


def inside(window: tuple[time, time], at: time) -> bool:
    """Whether a time of day lies in a window, which may cross midnight; its end is excluded."""
    begin, end = window
    return begin <= at < end if begin <= end else at >= begin or at < end


def zone_named(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise BadInput(
            f"{name!r} is no time zone.", "Use an IANA name like Europe/Oslo or UTC."
        ) from error


@lru_cache(maxsize=4096)
def parse(phrase: str, zone: str) -> Schedule:
    """A schedule from a phrase, a recurrence rule (RFC 5545) or a cron line, in an IANA zone."""
    found = Schedule(rule_of(phrase), zone_named(zone))
    if found.after(ANCHOR.replace(tzinfo=UTC)) is None:
        raise BadInput(f"{phrase!r} never comes.", "Choose days that there are.", field="when")
    return found


def quiet_hours(text: str) -> tuple[time, time] | None:
    """``08:00 to 18:30``, perhaps over midnight; empty: none."""
    if not text.strip():
        return None
    match = _QUIET.match(text.strip())
    numbers = [int(number) for number in match.groups()] if match else [24]
    if match is None or max(numbers[0], numbers[2]) > 23 or max(numbers[1], numbers[3]) > 59:
        raise BadInput(
            f"{text!r} are no quiet hours.", "Write them like 08:00 to 18:30.", field="quiet"
        )
    begin, end = time(numbers[0], numbers[1]), time(numbers[2], numbers[3])
    if begin == end:
        raise BadInput(
            "Quiet hours of a whole day let nothing begin.",
            "Write them like 08:00 to 18:30.",
            field="quiet",
        )
    return begin, end


def after_quiet(window: tuple[time, time] | None, zone: ZoneInfo, moment: datetime) -> datetime:
    """When a run due at ``moment`` may start."""
    local = aware(moment).astimezone(zone)
    if window is None or not inside(window, local.time()):
        return moment
    end = datetime.combine(local.date(), window[1], zone)
    if end <= local:
        end = datetime.combine(local.date() + timedelta(days=1), window[1], zone)
    return end.astimezone(UTC)


def place_in(spread: int, system: str) -> timedelta:
    """A system's own offset within ``spread`` minutes, stable and evenly distributed over many
    systems.
    """
    if spread == 0:
        return timedelta()
    number = int.from_bytes(blake2b(system.encode(), digest_size=8).digest(), "big")
    return timedelta(seconds=number % (spread * 60))
