"""Clocks, and doubts about the service's clock."""

from __future__ import annotations

from fennox.core.time import Aware
from fennox.wire.base import Shown


class OtherClock(Shown):
    """``ahead``: seconds ahead of the service's clock; ``accepted``: seconds confirmed by a
    person.
    """

    name: str
    at: Aware
    ahead: float
    accepted: float


class EventShown(Shown):
    """A past event; dates up to ``accepted`` are confirmed by a person."""

    name: str
    at: Aware
    accepted: Aware | None


class ClocksShown(Shown):
    """``believed``: no doubts about the service's clock. Otherwise ``doubts`` lists them, and
    ``means`` what waits.
    """

    own: str
    now: Aware
    clocks: list[OtherClock]
    events: list[EventShown]
    tended: Aware | None
    believed: bool
    doubts: list[str]
    means: str


class ClocksConfirmed(Shown):
    """Consequences of a confirmation, as sentences; empty: there was nothing to confirm."""

    said: list[str]
    clocks: ClocksShown
