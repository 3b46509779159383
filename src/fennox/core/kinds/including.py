"""A machine is rarely one kind: a kind builds on others. Works on what TOML gives, before it is checked as a whole."""

from __future__ import annotations

from typing import Any

from fennox.core.kinds.literals import FORWARD

Data = dict[str, Any]

# from the first that has it
_TAKEN_OVER = ("reach", "shell", "port", "identity", "clock", "requires", "replicas", "guard")
_TABLES = ("settings", "defaults", "expected")
_LISTS = (
    "completeness", "doubts", "programs", "references", "certificates", "relies_on", "around", "default_logins",
    "noise", "harmless", "collections", "formats", "hidden", "left_out",
)  # fmt: skip


def merged(own: Data, base: Data) -> Data:
    """``own`` on top of ``base``. What files both would take belong to ``own`` alone.

    Restore steps of ``base`` come first in every phase: packages are there when the files of ``own`` are validated, and
    the application is released last.
    """
    result = dict(own)
    for name in _TAKEN_OVER:
        if name in base:
            result.setdefault(name, base[name])
    for name in _TABLES:
        result[name] = {**base.get(name, {}), **own.get(name, {})}
    for name in _LISTS:
        result[name] = [*base.get(name, []), *own.get(name, [])]
    census = dict(base.get("census", {}))
    for name, listed in own.get("census", {}).items():
        census[name] = [*census.get(name, []), *listed]
    result["census"] = census
    parts = own.get("part", [])
    taken = [pattern for part in parts for source in part.get("source", []) for pattern in source.get("files", [])]
    result["part"] = [*(_without(part, taken) for part in base.get("part", [])), *parts]
    if "restore" in own or "restore" in base:
        result["restore"] = _steps(own.get("restore", {}), base.get("restore", {}))
    return result


def _without(part: Data, patterns: list[str]) -> Data:
    sources = [
        {**source, "without": [*source.get("without", []), *patterns]} if "files" in source else source
        for source in part["source"]
    ]
    return {**part, "source": sources}


def _steps(own: Data, base: Data) -> Data:
    result: Data = {name: given for name in ("entrance",) if (given := own.get(name, base.get(name))) is not None}
    for phase in (*FORWARD, "undo"):
        mine, theirs = own.get(phase, []), base.get(phase, [])
        if phase == "rejoin" and mine:
            result[phase] = mine
        else:
            result[phase] = [*theirs, *mine]
    return result
