"""Clocks, and what speaks against the service's."""

from __future__ import annotations

from fennox.core.time import Aware
from fennox.wire.base import Shown


class OtherClock(Shown):
    """``ahead``: seconds that it is ahead of the service's; ``accepted``: seconds that a person has
    confirmed.
    """

    name: str
    at: Aware
    ahead: float
    accepted: float


class EventShown(Shown):
    """Something that has happened; dates up to ``accepted`` were confirmed by a person."""

    name: str
    at: Aware
    accepted: Aware | None


class ClocksShown(Shown):
    """``believed``: nothing speaks against the service's clock. Else ``doubts`` say what does,
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
    """What follows from what a person has confirmed, in sentences; empty: nothing was to be
    confirmed.
    """

    said: list[str]
    clocks: ClocksShown
