"""What came of a run, in one line, for every list that shows runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fennox.catalogue.models import Run
from fennox.core.words import counted, size

Result = dict[str, Any]


def outcome(run: Run) -> str:
    """Its reason, what it did, or the step it is at; empty if there is nothing to say yet."""
    if run.reason:
        return run.reason
    if run.state == "done":
        told = _SAID.get(run.kind)
        return told(run.result) if told is not None else ""
    return run.step if run.state == "running" else ""


def _many(result: Result, what: str, noun: str) -> str:
    return counted(_number(result, what), noun)


def _size(result: Result, what: str) -> str:
    return size(_number(result, what))


def _number(result: Result, what: str) -> int:
    return int(result.get(what) or 0)


def _take(result: Result) -> str:
    new = "unchanged" if result.get("unchanged") else f"{_size(result, 'new_bytes')} new"
    differs = difference(result)
    return f"{_many(result, 'documents', 'document')}, {new}" + (f" ({differs})" if differs else "")


def difference(result: Result) -> str:
    """``2 documents changed, 1 document gone``; nothing if nothing differs, or if that is not known."""
    words = [word for word in ("changed", "new", "gone") if result.get(word)]
    return ", ".join(f"{_many(result, word, 'document')} {word}" for word in words)


def _restore(result: Result) -> str:
    if "undone" in result:
        return f"given up, {_many(result, 'undone', 'step')} undone"
    return "proved: all that was compared is there again" if result.get("proved") else "not proved"


def _copy(result: Result) -> str:
    anew = ", sealed anew" if result.get("sealed_anew") else ""
    return f"from {result.get('from')}, {_size(result, 'new_bytes')} new{anew}"


def _scrub(result: Result) -> str:
    text = f"{_many(result, 'objects', 'object')}, {_size(result, 'bytes')}"
    if result.get("damaged_backups"):
        return f"{text}; {_many(result, 'damaged_backups', 'backup')} cannot be read whole"
    if result.get("passed_over"):
        text += f", {_many(result, 'passed_over', 'pack')} in a later one"
    return f"{text}; {result['damaged']} damaged, healed" if result.get("damaged") else f"{text}; nothing is damaged"


def _sweep(result: Result) -> str:
    if result.get("preview"):
        return f"only looked: {_size(result, 'freed')} now, {_size(result, 'later')} after the grace"
    return f"{_many(result, 'records', 'backup')} removed, {_size(result, 'freed')} freed"


_SAID: dict[str, Callable[[Result], str]] = {
    "take": _take,
    "look": lambda result: f"it differs: {result['differs']}" if result.get("differs") else "as its last backup",
    "restore": _restore,
    "draft": lambda _: "run sheet written",
    "copy": _copy,
    "scrub": _scrub,
    "verify": lambda result: f"{result.get('opened', 0)} of {_many(result, 'backups', 'backup')} opened and read whole",
    "sweep": _sweep,
    "rekey": lambda result: (
        f"{_many(result, 'backups', 'backup')} sealed anew, key generation {result.get('generation')}"
    ),
    "adopt": lambda result: f"{_many(result, 'backups', 'backup')} of {_many(result, 'systems', 'system')} brought in",
}
