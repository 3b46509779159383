"""Where the files lie that are about to be read: which places a machine has, and what it knows of each file there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from fennox.core.errors import FarSideFailed
from fennox.links.base import Output, Shell

_TOO_FRESH = 5  # seconds
_LIMIT = 600  # seconds
_PLACES = (
    'tar --version 2>/dev/null | grep -q "GNU tar" && echo "GNU tar"; '
    'for p in "$@"; do shift; if [ -e "$p" ] || [ -L "$p" ]; then printf "%s\\n" "$p"; set -- "$@" "$p"; fi; done'
)
# GNU findutils
_STAMPS = '; [ $# -gt 0 ] && printf "\\0" && date +%s && exec find "$@" -printf "%y %i %s %T@ %C@ %p\\0"'


@dataclass(frozen=True)
class Look:
    """What lies on the machine: every path with its type, and a stamp for each file that may be trusted later."""

    types: Mapping[bytes, bytes]
    stamps: Mapping[bytes, str]


@dataclass(frozen=True)
class Survey:
    """Of the ``places`` asked for, those that are there (``roots``), which needs GNU tar, and the files below them."""

    places: list[str]
    has_tar: bool = False
    roots: list[str] = field(default_factory=list)
    look: Look | None = None


async def survey(shell: Shell, groups: Sequence[list[str]], *, stamps: bool) -> list[Survey]:
    """For each group of places what is there; ``stamps``: with every file, if the machine's find can tell them."""
    if shell.language != "posix":
        return [Survey(places) for places in groups]
    script = _PLACES + (_STAMPS if stamps else "")
    questions = [["sh", "-c", script, "sh", *places] for places in groups]
    try:
        outputs = await shell.ask(questions, limit=_LIMIT)
    except FarSideFailed:
        if not stamps:
            raise
        return await survey(shell, groups, stamps=False)  # more files than a list can be kept in memory for
    return [_read(places, output) for places, output in zip(groups, outputs, strict=True)]


def outermost(places: Iterable[str]) -> list[str]:
    """Without those that lie below another one."""
    kept: list[str] = []
    for place in sorted(set(places)):
        if not any(place == other or place.startswith(other.rstrip("/") + "/") for other in kept):
            kept.append(place)
    return kept


def _read(places: list[str], output: Output) -> Survey:
    told, separator, listed = output.output.partition(b"\0")
    tar, *found = told.decode("utf-8", "surrogateescape").splitlines() or [""]
    if tar != "GNU tar":
        return Survey(places)
    roots = [place for place in places if place in set(found)]
    return Survey(places, True, roots, _look(listed) if separator and output.code == 0 else None)


def _look(answer: bytes) -> Look | None:
    clock, _, listed = answer.partition(b"\n")
    if not clock.isdigit():
        return None
    types: dict[bytes, bytes] = {}
    stamps: dict[bytes, str] = {}
    for line in listed.split(b"\0"):
        words = line.split(b" ", 5)
        if len(words) != 6:
            continue
        kind, inode, size, modified, changed, path = words
        types[path] = kind
        if kind == b"f" and float(changed) < int(clock) - _TOO_FRESH:
            stamps[path] = b" ".join((inode, size, modified, changed)).decode("ascii")
    return Look(types, stamps)
