"""A store's ceiling: how much space backups may use, and which are removed early above it. Pure."""

from __future__ import annotations

import heapq
import re
from collections import defaultdict
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from fennox.core.errors import BadInput

GRACE = timedelta(days=3)  # between the warning and the first removal
NEAR = 0.9  # of the ceiling; usage above this is reported
_UNITS = {"MB": 10**6, "GB": 10**9, "TB": 10**12}
_FORM = re.compile(r"(\d{1,6}(?:\.\d{1,3})?) ?(%|MB|GB|TB)\Z")


@dataclass(frozen=True)
class Ceiling:
    """A share of used plus free space, or a number of bytes."""

    text: str
    share: float | None = None
    bytes: int | None = None

    def limit(self, used: int, free: int | None) -> int | None:
        """In bytes; None: the store does not report free space."""
        if self.bytes is not None:
            return self.bytes
        return int((used + free) * (self.share or 0)) if free is not None else None


def parse(text: str) -> Ceiling | None:
    """``80 %`` or ``500 GB``; empty: no ceiling."""
    if not text.strip():
        return None
    match = _FORM.match(text.strip())
    amount = float(match.group(1)) if match else 0.0
    if match is None or amount == 0 or (match.group(2) == "%" and amount > 100):
        raise BadInput(
            f"{text!r} is no ceiling.",
            "Write a share like 80 %, or a size like 500 GB.",
            field="ceiling",
        )
    shown = f"{match.group(1)} {match.group(2)}"
    if match.group(2) == "%":
        return Ceiling(shown, share=amount / 100)
    return Ceiling(shown, bytes=int(amount * _UNITS[match.group(2)]))


@dataclass(frozen=True)
class Held:
    """A backup in the store. ``size``: bytes it added; ``may_go``: kept only by rungs of
    ladders.
    """

    id: str
    system: str
    time: datetime
    size: int  # bytes
    may_go: bool


@dataclass
class _Node:
    held: Held
    before: _Node | None = None
    after: _Node | None = None
    turn: int = field(default=0)  # version of its neighbourhood


def thinned(backups: list[Held], excess: int, now: datetime) -> list[str]:
    """Backups to remove early to free ``excess`` bytes, in order; fewer if no others may go. First
    the one closest to its neighbours relative to its age, so that a history is thinned everywhere
    and keeps its length.
    """
    waiting: list[tuple[float, str, int, _Node]] = []

    def wait(node: _Node) -> None:
        if node.held.may_go:
            heapq.heappush(waiting, (_closeness(node, now), node.held.id, node.turn, node))

    for chain in _chains(backups):
        for node in chain:
            wait(node)
    gone: list[str] = []
    while waiting and excess > 0:
        _, _, turn, node = heapq.heappop(waiting)
        if turn != node.turn:
            continue  # stale heap entry
        gone.append(node.held.id)
        excess -= node.held.size
        node.turn += 1
        for side, other in ((node.before, node.after), (node.after, node.before)):
            if side is not None:
                if side is node.before:
                    side.after = other
                else:
                    side.before = other
                side.turn += 1
                wait(side)
    return gone


def _chains(backups: list[Held]) -> list[list[_Node]]:
    systems: dict[str, list[_Node]] = defaultdict(list)
    for held in sorted(backups, key=lambda one: (one.time, one.id)):
        chain = systems[held.system]
        node = _Node(held, before=chain[-1] if chain else None)
        if chain:
            chain[-1].after = node
        chain.append(node)
    return [systems[name] for name in sorted(systems)]


def _closeness(node: _Node, now: datetime) -> float:
    """The gap its removal would leave, relative to its age. A system's oldest backup goes last."""
    if node.before is None:
        return float("inf")
    younger = node.after.held.time if node.after else now
    return (younger - node.before.held.time) / max(now - node.held.time, timedelta(minutes=1))
