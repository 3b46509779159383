"""The plain phrases for times of day and recurrences (docs/first-hour.md, "Schedules").

::

    phrase   = "every" interval | "every" days "at" times | "on the" dates "at" times
    interval = [number] ("minutes" | "hours") ["between" time "and" time]
    days     = "day" | number "days" | "weekday" | weekdays | number "weeks on" weekdays
    dates    = ordinals | ("first" … "fourth" | "last") weekday, then perhaps "of" months
    times    = time {("," | "and") time}

A mistake is reported with the word at which it stands.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import time, timedelta
from typing import TypeVar

from fennox.core.errors import BadInput
from fennox.core.schedule.due_rules import CronLine, DayChoice, Days, Interval, Recurrence, Rule

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
)
_NTH = {"first": 1, "second": 2, "third": 3, "fourth": 4, "last": -1}
_CRON = re.compile(r"[0-9*,/A-Za-z?#L-]+(\s+[0-9*,/A-Za-z?#L-]+){4}\Z")
_WORD = re.compile(r"\d{1,2}:\d{2}|\d+(?:st|nd|rd|th)\b|\d+|[a-z]+|,|\S")
_LEAST = timedelta(minutes=5)
_REMEDY = "Write for example `every day at 02:40`, `every 5 hours` or `on the 1st at 03:30`."
Found = TypeVar("Found")


def rule_of(text: str) -> Rule:
    """A phrase, a recurrence rule or a cron line."""
    text = text.strip()
    if re.match(r"(?i)(rrule|dtstart)[:;]", text):
        return Recurrence(text.upper())
    if _CRON.match(text) and re.match(r"[0-9*]", text):
        return CronLine(text)
    return _Reader(text, [match for match in _WORD.finditer(text.lower())]).phrase()


@dataclass
class _Reader:
    text: str
    words: list[re.Match[str]]
    at: int = field(default=0)

    # words

    def now(self) -> str:
        return self.words[self.at].group() if self.at < len(self.words) else ""

    def take(self) -> str:
        word = self.now()
        self.at += 1
        return word

    def took(self, *words: str) -> bool:
        if self.now() not in words:
            return False
        self.at += 1
        return True

    def need(self, *words: str) -> None:
        if not self.took(*words):
            raise self.wrong(f"`{words[0]}` is missing")

    def wrong(self, why: str) -> BadInput:
        word = self.now()
        where = f"at `{word}`, letter {self.words[self.at].start() + 1}" if word else "at its end"
        return BadInput(f"{self.text!r} is not understood {where}: {why}.", _REMEDY, field="when")

    def listed(self, one: Callable[[], Found]) -> list[Found]:
        found = [one()]
        while self.took(",", "and"):
            self.took("and")
            found.append(one())
        return found

    # the grammar

    def phrase(self) -> Rule:
        if self.took("every"):
            rule = self.every()
        elif self.took("on"):
            self.need("the")
            rule = Days(self.dates(), self.times())
        else:
            raise self.wrong("a phrase begins with `every` or `on the`")
        if self.now():
            raise self.wrong("nothing is expected here")
        return rule

    def every(self) -> Rule:
        number = int(self.take()) if self.now().isdigit() else None
        if self.took("hour", "hours"):
            return self.interval(timedelta(hours=1) * self.counted(number))
        if self.took("minute", "minutes"):
            return self.interval(timedelta(minutes=1) * self.counted(number))
        if self.took("week", "weeks"):
            weeks = self.counted(number)
            self.need("on")
            return Days(
                DayChoice(weekdays=frozenset(self.listed(self.weekday)), every_weeks=weeks),
                self.times(),
            )
        if self.took("day", "days"):
            return Days(DayChoice(every_days=self.counted(number)), self.times())
        if number is not None:
            raise self.wrong("`minutes`, `hours`, `days` or `weeks` is missing")
        if self.took("weekday"):
            return Days(DayChoice(weekdays=frozenset(range(5))), self.times())
        return Days(DayChoice(weekdays=frozenset(self.listed(self.weekday))), self.times())

    def counted(self, number: int | None) -> int:
        if number is not None and not 1 <= number <= 1000:
            self.at -= 2
            raise self.wrong("the number must be 1 to 1000")
        return number or 1

    def interval(self, length: timedelta) -> Interval:
        if length < _LEAST:
            self.at -= 1
            raise self.wrong("every 5 minutes is the most often")
        if not self.took("between"):
            return Interval(length)
        begin = self.time()
        self.need("and")
        return Interval(length, (begin, self.time()))

    def dates(self) -> DayChoice:
        if self.now() in _NTH and not (self.now() == "last" and self.following() == "day"):
            nth = frozenset(self.listed(self.nth_weekday))
            return DayChoice(nth=nth, months=self.months())
        return DayChoice(month_days=frozenset(self.listed(self.month_day)), months=self.months())

    def following(self) -> str:
        return self.words[self.at + 1].group() if self.at + 1 < len(self.words) else ""

    def nth_weekday(self) -> tuple[int, int]:
        if self.now() not in _NTH:
            raise self.wrong("`first`, `second`, `third`, `fourth` or `last` is missing")
        return _NTH[self.take()], self.weekday()

    def month_day(self) -> int:
        if self.took("last"):
            self.need("day")
            return -1
        match = re.fullmatch(r"(\d+)(?:st|nd|rd|th)", self.now())
        if match is None or not 1 <= int(match.group(1)) <= 31:
            raise self.wrong("a day of the month is missing, like `1st`, `15th` or `last day`")
        self.at += 1
        return int(match.group(1))

    def months(self) -> frozenset[int] | None:
        return frozenset(self.listed(self.month)) if self.took("of") else None

    def month(self) -> int:
        if self.now() not in MONTHS:
            raise self.wrong("it is no month")
        return MONTHS.index(self.take()) + 1

    def weekday(self) -> int:
        if self.now() not in WEEKDAYS:
            raise self.wrong("it is neither `day`, `weekday` nor a day of the week")
        return WEEKDAYS.index(self.take())

    def times(self) -> tuple[time, ...]:
        self.need("at")
        return tuple(sorted(set(self.listed(self.time))))

    def time(self) -> time:
        match = re.fullmatch(r"(\d{1,2}):(\d{2})", self.now())
        if match is None or int(match.group(1)) > 23 or int(match.group(2)) > 59:
            raise self.wrong("it is no time of day, like 02:40")
        self.at += 1
        return time(int(match.group(1)), int(match.group(2)))
