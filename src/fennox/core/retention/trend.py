"""Forecast of when a growing store is full. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from statistics import LinearRegression, linear_regression

_LEAST = timedelta(days=3)  # of looks from which a trend is drawn
_DAY = 86400.0


def time_until_full(
    looks: Sequence[tuple[datetime, int]], free: int, now: datetime
) -> timedelta | None:
    """From measurements of used bytes, oldest first, and the bytes free now; None: not growing, or
    too few measurements.
    """
    if len(looks) < 3 or looks[-1][0] - looks[0][0] < _LEAST:
        return None
    begin = looks[0][0]
    line: LinearRegression = linear_regression(
        [(at - begin).total_seconds() / _DAY for at, _ in looks], [float(used) for _, used in looks]
    )
    if line.slope <= 0:
        return None
    days = free / line.slope - (now - looks[-1][0]).total_seconds() / _DAY
    return timedelta(days=max(min(days, 36500.0), 0.0))
