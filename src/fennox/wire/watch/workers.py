"""Processes that do the runs."""

from __future__ import annotations

from typing import Literal

from fennox.core.time import Aware
from fennox.wire.base import Shown


class WorkerShown(Shown):
    """``skew``: seconds that its clock is ahead of the database's. ``runs``: what it holds now."""

    id: str
    name: str
    version: str
    state: Literal["alive", "draining", "gone", "stopped"]
    started: Aware
    seen: Aware
    skew: float
    runs: int
