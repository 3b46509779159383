"""Concerns of one cause: which comes first, and the one sentence that they come to."""

from __future__ import annotations

from fennox.catalogue.models.concerns import ConcernRow
from fennox.core.facts.concerns import ConcernNoun
from fennox.core.words import first_few

_ROOTS: tuple[ConcernNoun, ...] = ("store", "service", "routine", "system")


def root_first(rows: list[ConcernRow]) -> list[ConcernRow]:
    """What other things suffer from comes before what suffers."""
    return sorted(
        rows, key=lambda row: (row.code != "store-away", _ROOTS.index(row.noun), row.about)
    )


def sentence(rows: list[ConcernRow], in_all: int) -> str:
    """What ``in_all`` concerns of one cause come to, of which these are the first, as
    :func:`root_first` has them.
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
    """At most three names, so that the sentence stays one."""
    named = list(dict.fromkeys(row.about for row in rows))[:3]
    if in_all > len(named):
        return first_few(named, in_all=in_all)
    return " and ".join([", ".join(named[:-1]), named[-1]]) if len(named) > 1 else "".join(named)
