"""Concerns of one cause told as one: what has happened, whom it touches, and what to do. Worst
first.
"""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime

from fennox.catalogue.models.concerns import ConcernRow
from fennox.service.concerns.causes import root_first, sentence
from fennox.service.concerns.standing_concerns import StandingConcerns
from fennox.wire.concerns import Matter


def matters(found: StandingConcerns) -> list[Matter]:
    """Worst first, then by how many are touched, then the oldest."""
    together: dict[tuple[str, str], list[ConcernRow]] = defaultdict(list)
    for row in found.worst:
        together[row.cause, row.severity].append(row)
    told = [
        _matter(rows, *found.of_cause[alike])
        for alike, rows in together.items()
        if alike in found.of_cause
    ]
    return sorted(told, key=lambda one: (one.severity != "high", -one.in_all, one.since))


def _matter(rows: list[ConcernRow], in_all: int, since: datetime) -> Matter:
    rows = root_first(rows)
    first = rows[0]
    alike = len({row.remedy for row in rows}) == 1
    remedy = first.remedy if alike or in_all == 1 else f"{first.remedy} Likewise for the others."
    return Matter(
        severity=first.severity,
        text=sentence(rows, in_all),
        means=first.means,
        remedy=remedy,
        since=since,
        in_all=in_all,
        about=[row.about for row in rows],
        concerns=[row.key for row in rows],
    )
