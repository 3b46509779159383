"""Building a kind on other kinds, since a machine is rarely of one kind only. Works on parsed TOML,
before the whole is validated.
"""

from __future__ import annotations

from collections.abc import Iterator
from difflib import get_close_matches
from typing import Any

from fennox.core.kinds.literals import FORWARD
from fennox.core.kinds.positions import Path

_PHASES = (*FORWARD, "clear", "undo")

# a parsed kind file, not yet validated
Data = dict[str, Any]

# taken from the first kind that has it
_TAKEN_OVER = ("reach", "shell", "port", "identity", "clock", "replicas", "new_machine")
_TABLES = ("settings", "defaults", "expected", "requires", "guard")  # merged field by field
_LISTS = (
    "completeness",
    "doubts",
    "programs",
    "references",
    "certificates",
    "relies_on",
    "answers_for",
    "around",
    "default_logins",
    "machine",
    "sizes",
    "numbers",
    "place",
    "noise",
    "harmless",
    "collections",
    "formats",
    "hidden",
    "left_out",
    "deployment",
)


def merged(own: Data, base: Data) -> Data:
    """``own`` on top of ``base``. Files that both would take belong to ``own`` alone. Restore steps
    of ``base`` come first in every phase: packages are installed before the files of ``own`` are
    validated, and the application is released last.
    """
    result = dict(own)
    for name in _TAKEN_OVER:
        if name in base:
            result.setdefault(name, base[name])
    for name in _TABLES:
        if name in own or name in base:
            result[name] = {**base.get(name, {}), **own.get(name, {})}
    for name in _LISTS:
        result[name] = [*base.get(name, []), *own.get(name, [])]
    census = dict(base.get("census", {}))
    for name, listed in own.get("census", {}).items():
        census[name] = [*census.get(name, []), *listed]
    result["census"] = census
    parts = own.get("part", [])
    taken = [
        pattern
        for part in parts
        for source in part.get("source", [])
        for pattern in source.get("files", [])
    ]
    result["part"] = [*(_without(part, taken) for part in base.get("part", [])), *parts]
    if "restore" in own or "restore" in base:
        result["restore"] = _steps(own.get("restore", {}), base.get("restore", {}))
    return result


def misshapen(own: Data) -> Iterator[tuple[Path, str, str]]:
    """A part that cannot be merged with the included kinds: position, what is wrong, and what to
    do.
    """
    for name in (*_TABLES, "census", "restore"):
        if not isinstance(own.get(name, {}), dict):
            yield (name,), "this must be a table", f"Write it as [{name}]."
    for name in (*_LISTS, "part"):
        if not isinstance(own.get(name, []), list):
            yield (name,), "this must be a list", f"Write [[{name}]], or {name} = [...]."
    for name, listed in own["census"].items() if isinstance(own.get("census"), dict) else ():
        if not isinstance(listed, list):
            yield (
                ("census", name),
                "this must be a list of expressions",
                f"Write {name} = [{{ in = ... }}].",
            )
    for phase, steps in own["restore"].items() if isinstance(own.get("restore"), dict) else ():
        if phase not in (*_PHASES, "entrance"):
            close = get_close_matches(phase, _PHASES, 1)
            remedy = f"Did you mean {close[0]}?" if close else f"There are {', '.join(_PHASES)}."
            yield ("restore", phase), "there is no such phase", remedy
        elif phase != "entrance" and not isinstance(steps, list):
            yield ("restore", phase), "this must be a list of steps", f"Write [[restore.{phase}]]."


def _without(part: Data, patterns: list[str]) -> Data:
    sources = [
        {**source, "without": [*source.get("without", []), *patterns]}
        if "files" in source
        else source
        for source in part["source"]
    ]
    return {**part, "source": sources}


def _steps(own: Data, base: Data) -> Data:
    result: Data = {
        name: given
        for name in ("entrance",)
        if (given := own.get(name, base.get(name))) is not None
    }
    for phase in _PHASES:
        mine, theirs = own.get(phase, []), base.get(phase, [])
        if phase == "rejoin" and mine:
            result[phase] = mine
        else:
            result[phase] = [*theirs, *mine]
    return result
