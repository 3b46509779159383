"""The offset of a machine's clock. Its certificates, schedules and logs depend on it."""

from __future__ import annotations

from datetime import UTC, datetime

from fennox.core.errors import FarSideFailed
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import Evidence, filled
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.kinds.rules import Clock
from fennox.engine.backups.vault import Now
from fennox.engine.reading.inquiry import Inquiry
from fennox.links.base import Link, Web


async def skew(
    kind: Kind, link: Link, settings: dict[str, str], now: Now, inquiry: Inquiry
) -> float | None:
    """Seconds the machine's clock is ahead, to about a second; None: the kind does not say how to
    ask. A shell's time is already among the answers; an HTTP interface is asked here.
    """
    clock = kind.clock
    if clock is None:
        return None
    if inquiry.clock is not None:
        answer, asked = inquiry.clock
        return _ahead(clock, answer, asked)
    if clock.ask is None or not isinstance(link, Web):
        return None
    before = now()
    body = (
        await link.request(clock.ask.method, filled(clock.ask.path, values_of(kind, settings)))
    ).body
    return _ahead(clock, body, before + (now() - before) / 2)


def _ahead(clock: Clock, answer: bytes, asked: datetime) -> float:
    told = expressions.first(
        clock.value, Evidence(contents={clock.value.in_: answer}, paths={clock.value.in_})
    )
    return (_moment(told) - asked).total_seconds()


def _moment(told: str) -> datetime:
    """Seconds since 1970, or ISO 8601."""
    try:
        moment = (
            datetime.fromtimestamp(float(told), UTC)
            if _is_number(told)
            else datetime.fromisoformat(told)
        )
    except (ValueError, OverflowError, OSError) as error:
        raise FarSideFailed(
            "The machine does not report its time as its kind expects.", "Check its clock."
        ) from error
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)


def _is_number(told: str) -> bool:
    return told.replace(".", "", 1).isdigit()
