"""What a schedule is made of: rules that give local times without a zone, and intervals that need none.

RFC 5545 recurrences and POSIX cron lines are read by libraries; the phrases by :mod:`fennox.core.phrases`.
"""

from __future__ import annotations

import calendar
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Protocol

from cronsim import CronSim, CronSimError
from dateutil.rrule import HOURLY, rrule, rrulestr

from fennox.core.errors import BadInput

ANCHOR = datetime(2000, 1, 3)  # noqa: DTZ001 - a Monday; what has no beginning of its own counts from here
_LONGEST = 366 * 9  # days without a due time after which there is none: 29 February may be eight years away


class LocalRule(Protocol):
    """Due times as a clock on the wall shows them."""

    def after(self, moment: datetime) -> Iterator[datetime]:
        """Naive times later than a naive ``moment``, in order."""


@dataclass(frozen=True)
class DayChoice:
    """Which days. None and 1 do not narrow. ``month_days``: -1 is the last. ``nth``: (2, 6) is the second Sunday."""

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
            and (self.nth is None or bool({(week, day.weekday()) for week in _weeks(day, length)} & self.nth))
            and since % self.every_days == 0
            and since // 7 % self.every_weeks == 0
        )


def _weeks(day: date, length: int) -> tuple[int, int]:
    """The how-manieth of its weekday this day is in its month, from the beginning and (negative) from the end."""
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


class Recurrence:
    """A recurrence rule of RFC 5545, with its own DTSTART or counted from the anchor."""

    def __init__(self, text: str) -> None:
        try:
            found = rrulestr(text, dtstart=ANCHOR, cache=True, ignoretz=True)
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
        self._rule = found

    def after(self, moment: datetime) -> Iterator[datetime]:
        return iter(self._rule.xafter(moment))


class CronLine:
    """Five fields as crontab(5) has them (POSIX crontab)."""

    def __init__(self, text: str) -> None:
        try:
            CronSim(text, ANCHOR)
        except CronSimError as error:
            raise BadInput(
                f"{text!r} is no cron line: {error}.", "Write five fields: minute hour day month weekday."
            ) from error
        self._text = text

    def after(self, moment: datetime) -> Iterator[datetime]:
        try:
            yield from CronSim(self._text, moment)
        except CronSimError:
            return  # it never comes, like 30 February


@dataclass(frozen=True)
class Interval:
    """Every so much time that really passes, whatever the clocks do; within the day perhaps only in a window."""

    length: timedelta
    window: tuple[time, time] | None = None


Rule = LocalRule | Interval
