"""The rules of a schedule: those that yield naive local times, and intervals that need no zone.

RFC 5545 recurrences and POSIX cron lines are read by libraries; the phrases by
:mod:`fennox.core.schedule.phrases`.
"""

from __future__ import annotations

import calendar
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from itertools import takewhile
from typing import Any, Protocol

from cronsim import CronSim, CronSimError
from dateutil.rrule import DAILY, HOURLY, WEEKLY, rrule, rrulestr

from fennox.core.errors import BadInput

ANCHOR = datetime(2000, 1, 3)  # noqa: DTZ001 - a Monday; rules without a start date count from here
_LONGEST = (
    366 * 9
)  # days to search for a due time before giving up: 29 February may be eight years away


class LocalRule(Protocol):
    """Due times as naive local times."""

    def after(self, moment: datetime) -> Iterator[datetime]:
        """Naive times later than a naive ``moment``, in order."""


@dataclass(frozen=True)
class DayChoice:
    """Selects days. None and 1 select all. ``month_days``: -1 is the last day. ``nth``: (2, 6) is
    the second Sunday.
    """

    weekdays: frozenset[int] | None = None
    month_days: frozenset[int] | None = None
    nth: frozenset[tuple[int, int]] | None = None
    months: frozenset[int] | None = None
    every_days: int = 1
    every_weeks: int = 1

    def fits(self, day: date) -> bool:
        since = (day - ANCHOR.date()).days
        length = calendar.monthrange(day.year, day.month)[1]
        return (
            (self.months is None or day.month in self.months)
            and (self.weekdays is None or day.weekday() in self.weekdays)
            and (self.month_days is None or bool({day.day, day.day - length - 1} & self.month_days))
            and (
                self.nth is None
                or bool({(week, day.weekday()) for week in _weeks(day, length)} & self.nth)
            )
            and since % self.every_days == 0
            and since // 7 % self.every_weeks == 0
        )


def _weeks(day: date, length: int) -> tuple[int, int]:
    """The ordinal of this weekday in its month, from the start and (negative) from the end."""
    return (day.day - 1) // 7 + 1, -((length - day.day) // 7 + 1)


@dataclass(frozen=True)
class Days:
    """Times of day on chosen days."""

    choice: DayChoice
    at: tuple[time, ...]

    def after(self, moment: datetime) -> Iterator[datetime]:
        day, idle = moment.date(), 0
        while idle < _LONGEST:
            if self.choice.fits(day):
                idle = 0
                for at in self.at:
                    if (due := datetime.combine(day, at)) > moment:
                        yield due
            day, idle = day + timedelta(days=1), idle + 1


_EARLIEST = datetime(1990, 1, 1)  # noqa: DTZ001 - what a rule may begin at; those before are looked through for long
_MOST_TIMES = 96  # of a day that a rule may name
_MOST_COUNTED = 10_000
_UNIT = {HOURLY: timedelta(hours=1), DAILY: timedelta(days=1), WEEKLY: timedelta(weeks=1)}


class Recurrence:
    """A recurrence rule of RFC 5545, with its own DTSTART or counted from the anchor.

    The search begins shortly before the requested moment, not at the rule's start. For a rule
    without occurrences it runs to the year 9999, so rules are validated in a process that can be
    killed (``engine.processes``). A rule with any occurrence has one within 400 years, which is
    found quickly.
    """

    def __init__(self, text: str) -> None:
        try:
            found = rrulestr(text, dtstart=ANCHOR, ignoretz=True)
        except (ValueError, TypeError, AttributeError, KeyError) as error:
            raise BadInput(
                f"{text!r} is no recurrence rule: {error}.",
                "Write it as RFC 5545 does: RRULE:FREQ=DAILY;BYHOUR=2;BYMINUTE=40;BYSECOND=0",
            ) from error
        if not isinstance(found, rrule) or getattr(found, "_freq", HOURLY) > HOURLY:
            raise BadInput(
                f"{text!r} repeats more often than every hour, or holds several rules.",
                "Use one rule with FREQ from HOURLY to YEARLY, or `every 30 minutes`.",
            )
        _must_be_bounded(found, text)
        self._rule = found

    def after(self, moment: datetime) -> Iterator[datetime]:
        rule: Any = self._rule
        until = max(moment, rule._dtstart) + timedelta(days=_LONGEST)
        if rule._until is not None:
            until = min(until, rule._until)
        begin = rule._dtstart
        if rule._count is None and rule._freq in _UNIT and moment > begin:
            step = _UNIT[rule._freq] * rule._interval
            begin += max((moment - begin) // step - 1, 0) * step
        if begin > until:
            return iter(())
        return takewhile(lambda due: due <= until, rule.replace(dtstart=begin).xafter(moment))


def _must_be_bounded(rule: Any, text: str) -> None:
    """Raise ``BadInput`` for a rule that is slow to evaluate even if it has occurrences."""
    times = len(rule._byhour or [0]) * len(rule._byminute or [0]) * len(rule._bysecond or [0])
    problem = ""
    if not 1 <= rule._interval <= 10_000:
        problem = "its INTERVAL must be from 1 to 10000"
    elif rule._dtstart < _EARLIEST:
        problem = "its DTSTART must not be before 1990"
    elif times > _MOST_TIMES:
        problem = f"it names {times} times of a day, and {_MOST_TIMES} are the most"
    elif rule._count is not None and (rule._count > _MOST_COUNTED or rule._freq == HOURLY):
        problem = f"COUNT may be {_MOST_COUNTED} at most, and goes with FREQ from DAILY to YEARLY"
    if problem:
        raise BadInput(
            f"{text!r} cannot be used: {problem}.",
            "Change it, or write a phrase like `every 5 hours`.",
        )


class CronLine:
    """Five fields as crontab(5) has them (POSIX crontab)."""

    def __init__(self, text: str) -> None:
        try:
            CronSim(text, ANCHOR)
        except CronSimError as error:
            raise BadInput(
                f"{text!r} is no cron line: {error}.",
                "Write five fields: minute hour day month weekday.",
            ) from error
        self._text = text

    def after(self, moment: datetime) -> Iterator[datetime]:
        try:
            yield from CronSim(self._text, moment)
        except CronSimError:
            return  # it has no occurrence, like 30 February


@dataclass(frozen=True)
class Interval:
    """A fixed interval of elapsed time, regardless of clock changes; optionally only within a daily
    window.
    """

    length: timedelta
    window: tuple[time, time] | None = None


Rule = LocalRule | Interval
