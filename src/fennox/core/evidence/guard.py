"""Whether a new backup can be trusted, in comparison with the last good ones of the same parts.
Pure.

A doubtful backup displaces no good one until a person has looked. Only losses raise doubt, never
growth.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from statistics import median

from fennox.core.kinds.model import Kind

_FEW_BYTES = 64 * 1024  # a smaller loss is ignored


@dataclass(frozen=True)
class SeenBackup:
    """One backup as the guard sees it. Names may be keyed digests, of which only the number counts.
    ``names_in_clear``: whether they can be compared with those of a fresh installation.
    """

    product: str
    census: Mapping[str, Sequence[str]]
    bytes: int
    names_in_clear: bool = True


def doubts(kind: Kind, new: SeenBackup, earlier: Sequence[SeenBackup]) -> list[str]:
    """Reasons for a person to look before this backup counts; empty: no doubt. ``earlier``: good
    backups.
    """
    return list(_doubts(kind, new, earlier)) if earlier else []


def _doubts(kind: Kind, new: SeenBackup, earlier: Sequence[SeenBackup]) -> Iterator[str]:
    if new.product != earlier[0].product:
        yield f"it is of {new.product}, the ones before were of {earlier[0].product}"
    for name in kind.census:
        before = median(len(seen.census.get(name, ())) for seen in earlier)
        now = len(new.census.get(name, ()))
        lost = before - now
        if now == 0 and before > 0 and (name in kind.guard.required or before >= kind.guard.least):
            yield f"the list {name} is empty, and had {before:g}"
        elif lost >= kind.guard.least and lost > before * kind.guard.share:
            yield f"the list {name} has {now} of the {before:g} it had"
    if (
        new.names_in_clear
        and _only_defaults(kind, new)
        and not any(_only_defaults(kind, seen) for seen in earlier)
    ):
        yield "it holds only what every fresh installation has"
    size = median(seen.bytes for seen in earlier)
    if new.bytes < size * kind.guard.size and size - new.bytes > _FEW_BYTES:
        yield f"it has {new.bytes} bytes, the ones before had {size:.0f}"


def _only_defaults(kind: Kind, seen: SeenBackup) -> bool:
    """Whether every list with fresh-installation names holds only those names."""
    listed = [(set(seen.census.get(name, ())), set(names)) for name, names in kind.defaults.items()]
    return bool(listed) and all(names <= fresh for names, fresh in listed)
