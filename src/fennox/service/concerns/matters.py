"""Grouping concerns of one cause into one matter: what happened, what it affects, what to do."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime

from fennox.catalogue.models.concerns import ConcernRow
from fennox.core.facts.concerns import ConcernNoun
from fennox.core.words import first_few
from fennox.service.concerns.standing_concerns import StandingConcerns
from fennox.wire.watch.concerns import Matter

_ROOTS: tuple[ConcernNoun, ...] = ("store", "service", "routine", "system")


def matters(found: StandingConcerns) -> list[Matter]:
    """Worst first, then by the number affected, then oldest."""
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


def root_first(rows: list[ConcernRow]) -> list[ConcernRow]:
    """Causes come before their effects."""
    return sorted(
        rows, key=lambda row: (row.code != "store-away", _ROOTS.index(row.noun), row.about)
    )


def sentence(rows: list[ConcernRow], in_all: int) -> str:
    """One sentence for ``in_all`` concerns of one cause. ``concerns``: the first of them, in the
    order of :func:`root_first`.
    """
    first = rows[0]
    if in_all == 1:
        return first.text
    if first.together:
        return first.together.replace("{these}", _names(rows, in_all))
    others = [row for row in rows if row.about != first.about]
    touched = in_all - (len(rows) - len(others))
    return f"{first.text} It holds up {_names(others, touched)}." if others else first.text


def _names(rows: list[ConcernRow], in_all: int) -> str:
    """At most three names, to keep it one sentence."""
    named = list(dict.fromkeys(row.about for row in rows))[:3]
    if in_all > len(named):
        return first_few(named, in_all=in_all)
    return " and ".join([", ".join(named[:-1]), named[-1]]) if len(named) > 1 else "".join(named)
