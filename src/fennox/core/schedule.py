"""When a routine is due, in plain words.

A local time that does not exist (clocks go forward) is taken as much later as the clocks jump; one that exists twice
(clocks go back) is taken the first time. So no local day loses a due time or has one twice.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from fennox.core.errors import BadInput
from fennox.core.time import aware

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_FORM = re.compile(r"every\s+([a-z]+)\s+at\s+(\d{1,2}:\d{2}(?:\s+and\s+\d{1,2}:\d{2})*)\Z")
_REMEDY = "Write `every day at 02:40`, `every day at 02:40 and 14:40` or `every saturday at 23:15`."


@dataclass(frozen=True)
class Schedule:
    """Due times on every day, or on one weekday (0 is Monday)."""

    weekday: int | None
    at: tuple[time, ...]
    zone: ZoneInfo

    def after(self, moment: datetime) -> datetime:
        """The first due time later than ``moment``, in UTC."""
        moment = aware(moment)
        day = moment.astimezone(self.zone).date() - timedelta(days=1)
        while True:
            if self.weekday is None or day.weekday() == self.weekday:
                later = [due for due in self._on(day) if due > moment]
                if later:
                    return later[0]
            day += timedelta(days=1)

    def coming(self, moment: datetime, count: int) -> list[datetime]:
        found: list[datetime] = []
        for _ in range(count):
            moment = self.after(moment)
            found.append(moment)
        return found

    def newest_due(self, since: datetime, now: datetime) -> datetime | None:
        """The newest due time in ``(since, now]``: of several that were missed, only one is caught up."""
        newest = None
        due = self.after(since)
        while due <= now:
            newest, due = due, self.after(due)
        return newest

    def _on(self, day: date) -> list[datetime]:
        return sorted(datetime.combine(day, at, self.zone).replace(fold=0).astimezone(UTC) for at in self.at)


def zone_named(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise BadInput(f"{name!r} is no time zone.", "Use an IANA name like Europe/Oslo or UTC.") from error


def parse(phrase: str, zone: str) -> Schedule:
    match = _FORM.match(phrase.strip().lower())
    if match is None:
        raise BadInput(f"{phrase!r} is not understood as a time.", _REMEDY)
    day = match.group(1)
    if day != "day" and day not in WEEKDAYS:
        raise BadInput(f"{day!r} in {phrase!r} is neither `day` nor a weekday.", _REMEDY)
    at = tuple(sorted({_time_of_day(text, phrase) for text in match.group(2).split() if text != "and"}))
    return Schedule(None if day == "day" else WEEKDAYS.index(day), at, zone_named(zone))


def _time_of_day(text: str, phrase: str) -> time:
    hour, minute = (int(number) for number in text.split(":"))
    if hour > 23 or minute > 59:
        raise BadInput(f"{text} in {phrase!r} is no time of day.", _REMEDY)
    return time(hour, minute)
