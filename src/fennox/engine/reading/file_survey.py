"""Surveying the files to be read: which places exist on a machine, the metadata of each file there,
and which of them the machine has not finished writing.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache

from fennox.core.errors import FarSideFailed
from fennox.core.kinds.expressions import patterns
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Source
from fennox.links.base import Shell

_TOO_FRESH = 5  # seconds
_ALSO = "also"  # never a place, since those begin with a slash
CLOCK = ["date", "+%s"]
_TAR = 'tar --version 2>/dev/null | grep -q "GNU tar" && echo "GNU tar"; '
_PLACES = (
    "listed=y; "
    f'for p in "$@"; do shift; if [ "$p" = {_ALSO} ]; then listed=; '
    'elif [ -e "$p" ] || [ -L "$p" ]; then printf "%s\\n" "$p"; [ -n "$listed" ] && set -- "$@"'
    ' "$p"; fi; done'
)
# GNU findutils
_STAMPS = (
    '; [ $# -gt 0 ] && printf "\\0" && date +%s && exec find "$@" -printf "%y %i %s %T@ %C@ %p\\0"'
)
_PAUSE = 2  # seconds between the two size checks
_TWICE = (  # GNU findutils
    'pause=$1; shift; date +%s && find "$@" -type f -printf "%s %T@ %p\\0" && printf "\\0" && sleep'
    ' "$pause" && find "$@" -type f -printf "%s %T@ %p\\0"'
)


@dataclass(frozen=True)
class SurveyLook:
    """A survey of the machine: every path with its type, and a stamp for each file that can be
    trusted later. ``at_rest``: nothing changed so recently that a later change might leave the same
    times.
    """

    types: Mapping[bytes, bytes]
    stamps: Mapping[bytes, str]
    at_rest: bool

    def below(self, roots: list[str]) -> SurveyLook:
        wanted = [os.fsencode(root).rstrip(b"/") for root in roots]

        def is_below(path: bytes) -> bool:
            return any(path == root or path.startswith(root + b"/") for root in wanted)

        kept = {path: kind for path, kind in self.types.items() if is_below(path)}
        return SurveyLook(
            kept, {path: stamp for path, stamp in self.stamps.items() if path in kept}, self.at_rest
        )


@dataclass(frozen=True)
class Survey:
    """Of the requested ``places``, those that exist (``roots``), which needs GNU tar, and the files
    below them.
    """

    places: list[str]
    has_tar: bool = False
    roots: list[str] = field(default_factory=list)
    look: SurveyLook | None = None


@dataclass(frozen=True)
class Places:
    """Sources whose files are read together. ``tar``: also ask whether GNU tar exists."""

    each: Sequence[list[str]]
    tar: bool = True

    def question(self, *, stamps: bool) -> list[str]:
        """Which places exist; ``stamps``: also a stamp for every file, if the machine's find can
        print it.
        """
        outer = outermost(place for places in self.each for place in places)
        inner = sorted({place for places in self.each for place in places} - set(outer))
        script = (_TAR if self.tar else "") + _PLACES + (_STAMPS if stamps else "")
        return ["sh", "-c", script, "sh", *outer, _ALSO, *inner]

    def surveys(self, answer: bytes, *, whole: bool) -> list[Survey]:
        """The answer per source. ``whole``: the answer is complete."""
        told, separator, listed = answer.partition(b"\0")
        there = set(told.decode("utf-8", "surrogateescape").splitlines())
        if self.tar and "GNU tar" not in there:
            return [Survey(places) for places in self.each]
        look = _look(listed) if separator and whole else None
        surveys = []
        for places in self.each:
            roots = [place for place in places if place in there]
            seen = look.below(roots) if look is not None and len(self.each) > 1 else look
            surveys.append(Survey(places, True, roots, seen))
        return surveys

    def told(self, answer: bytes) -> list[bytes]:
        """Question and answer in a canonical form that stays equal while nothing changes: without
        the clock, in a fixed order.
        """
        asked = [os.fsencode(place) for places in self.each for place in [*places, ""]]
        there, _, listed = answer.partition(b"\0")
        return [
            *asked,
            there.removeprefix(b"GNU tar\n"),
            *sorted(listed.partition(b"\n")[2].split(b"\0")),
        ]


def places_of(kind: Kind, source: Source, values: dict[str, str]) -> list[str]:
    """The places where a source's files may be."""
    return places_in(kind, source.files or [], values)


def places_in(kind: Kind, texts: list[str], values: dict[str, str]) -> list[str]:
    return outermost(_literal_prefix(pattern) for pattern in patterns(texts, kind.settings, values))


def outermost(places: Iterable[str]) -> list[str]:
    """The paths without those below another one."""
    kept: list[str] = []
    # by their steps, a folder comes right before all that is below it; as text "/a-b" comes between
    for place in sorted(set(places), key=lambda place: (place.rstrip("/").split("/"), place)):
        if not kept or not f"{place}/".startswith(kept[-1].rstrip("/") + "/"):
            kept.append(place)
    return kept


@cache
def _literal_prefix(pattern: str) -> str:
    """A pattern's longest folder without a wildcard: where tar starts."""
    steps = []
    for step in pattern.split("/"):
        if any(sign in step for sign in "*?["):
            break
        steps.append(step)
    return "/".join(steps) or "/"


def clock_of(answer: bytes) -> bytes:
    """The machine's time in an answer with stamps, as :data:`CLOCK` prints it, or empty."""
    return answer.partition(b"\0")[2].partition(b"\n")[0]


def is_at_rest(answer: bytes) -> bool:
    """As for a :class:`SurveyLook`, in a complete answer with stamps; False if it has none."""
    clock, _, listed = answer.partition(b"\0")[2].partition(b"\n")
    if not clock.isdigit():
        return False
    fresh_from = int(clock) - _TOO_FRESH
    return all(float(words[4]) < fresh_from for words in _lines(listed))


def _lines(listed: bytes) -> Iterator[list[bytes]]:
    """Format: type, inode, size, both times, path."""
    return (words for line in listed.split(b"\0") if len(words := line.split(b" ", 5)) == 6)


def _look(answer: bytes) -> SurveyLook | None:
    clock, _, listed = answer.partition(b"\n")
    if not clock.isdigit():
        return None
    types: dict[bytes, bytes] = {}
    stamps: dict[bytes, str] = {}
    fresh_from, at_rest = int(clock) - _TOO_FRESH, True
    for words in _lines(listed):
        kind, inode, size, modified, changed, path = words
        types[path] = kind
        if float(changed) >= fresh_from:
            at_rest = False
        elif kind == b"f":
            stamps[path] = b" ".join((inode, size, modified, changed)).decode("ascii")
    return SurveyLook(types, stamps, at_rest)


async def unsettled(shell: Shell, roots: list[str], seconds: int) -> set[str]:
    """Paths below ``roots`` that were written within ``seconds``, by the machine's clock, or are
    still growing.
    """
    done = await shell.run(["sh", "-c", _TWICE, "sh", str(_PAUSE), *roots], limit=600)
    head, _, rest = done.output.partition(b"\n")
    first, between, second = (
        rest.partition(b"\0\0") if b"\0\0" in rest else (b"", rest[:1], rest[1:])
    )
    if not head.strip().isdigit() or not between:
        raise FarSideFailed(
            f"The files below {', '.join(roots)} cannot be checked: {done.errors[:300]}",
            "Check what the login may read.",
        )
    before, after = _sizes(first), _sizes(second)
    limit = int(head) - seconds
    return {
        os.fsdecode(path)
        for path, (size, written) in after.items()
        if written > limit or before.get(path, (size, 0))[0] != size
    }


def _sizes(listing: bytes) -> dict[bytes, tuple[int, float]]:
    found = {}
    for line in listing.split(b"\0"):
        if line:
            size, written, path = line.split(b" ", 2)
            found[path] = (int(size), float(written))
    return found
