"""When a routine is due, in plain words.

A local time that does not exist (clocks go forward) is taken as much later as the clocks jump; one that exists twice
(clocks go back) is taken the first time. So every local day has exactly one due time.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from fennox.core.errors import BadInput
from fennox.core.time import aware

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_FORM = re.compile(r"every\s+([a-z]+)\s+at\s+(\d{1,2}):(\d{2})\Z")
_REMEDY = "Write `every day at 02:40` or `every saturday at 23:15`."


@dataclass(frozen=True)
class Schedule:
    """A due time on every day, or on one weekday (0 is Monday)."""

    weekday: int | None
    at: time
    zone: ZoneInfo

    def after(self, moment: datetime) -> datetime:
        """The first due time later than ``moment``, in UTC."""
        moment = aware(moment)
        day = moment.astimezone(self.zone).date() - timedelta(days=1)
        while True:
            if self.weekday is None or day.weekday() == self.weekday:
                due = self._on(day)
                if due > moment:
                    return due
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

    def _on(self, day: date) -> datetime:
        return datetime.combine(day, self.at, self.zone).replace(fold=0).astimezone(UTC)


def zone_named(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise BadInput(f"{name!r} is no time zone.", "Use an IANA name like Europe/Oslo or UTC.") from error


def parse(phrase: str, zone: str) -> Schedule:
    match = _FORM.match(phrase.strip().lower())
    if match is None:
        raise BadInput(f"{phrase!r} is not understood as a time.", _REMEDY)
    day, hour, minute = match.group(1), int(match.group(2)), int(match.group(3))
    if day != "day" and day not in WEEKDAYS:
        raise BadInput(f"{day!r} in {phrase!r} is neither `day` nor a weekday.", _REMEDY)
    if hour > 23 or minute > 59:
        raise BadInput(f"{match.group(2)}:{match.group(3)} in {phrase!r} is no time of day.", _REMEDY)
    return Schedule(None if day == "day" else WEEKDAYS.index(day), time(hour, minute), zone_named(zone))
