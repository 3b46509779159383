"""Time is passed in, never read from a clock. Aware datetimes only; compact UTC in names and stored
JSON.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from pydantic import AfterValidator

STAMP = "%Y%m%dT%H%M%SZ"


def aware(value: datetime) -> datetime:
    """Refuse a datetime without a zone."""
    if value.tzinfo is None:
        raise ValueError("a time needs a zone")
    return value.astimezone(UTC)


Aware = Annotated[datetime, AfterValidator(aware)]


def stamp(value: datetime) -> str:
    """``20260131T024000Z`` (store-format §1.4)."""
    return aware(value).strftime(STAMP)


def parse_stamp(text: str) -> datetime:
    return datetime.strptime(text, STAMP).replace(tzinfo=UTC)
