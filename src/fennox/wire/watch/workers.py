"""Workers: the processes that carry out runs."""

from __future__ import annotations

from typing import Literal

from fennox.core.time import Aware
from fennox.wire.base import Shown


class WorkerShown(Shown):
    """``skew``: seconds its clock is ahead of the database's. ``runs``: its present runs."""

    id: str
    name: str
    version: str
    state: Literal["alive", "draining", "gone", "stopped"]
    started: Aware
    seen: Aware
    skew: float
    runs: int
