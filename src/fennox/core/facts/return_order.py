"""The order in which systems must be restored, from their dependencies. Pure."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from graphlib import CycleError, TopologicalSorter
from urllib.parse import urlsplit


@dataclass(frozen=True)
class OrderOfReturn:
    """``waves``: names that can come back together, earlier waves first. ``circles``: names that
    need each other.
    """

    waves: list[list[str]]
    circles: list[list[str]]


def in_order(needs: Mapping[str, Iterable[str]]) -> OrderOfReturn:
    """Waves of the keys. Dependencies that are not keys are ignored; those within a circle are not
    followed.
    """
    left = {
        name: {other for other in others if other in needs and other != name}
        for name, others in needs.items()
    }
    circles: list[list[str]] = []
    while True:
        sorter = TopologicalSorter(left)
        try:
            sorter.prepare()
        except CycleError as error:
            circle = sorted(set(error.args[1]))
            circles.append(circle)
            for name in circle:
                left[name] -= set(circle)
            continue
        waves = []
        while sorter.is_active():
            ready = sorted(sorter.get_ready())
            waves.append(ready)
            sorter.done(*ready)
        return OrderOfReturn(waves, circles)


def host_in(text: str) -> str:
    """The host in a configured name: a host, ``host:port``, ``[v6]:port`` or a URL; empty: none."""
    text = text.strip()
    try:
        found = urlsplit(text if "://" in text else f"//{text}").hostname or ""
    except ValueError:
        return ""
    return found if re.fullmatch(r"[A-Za-z0-9._:-]+", found) else ""
