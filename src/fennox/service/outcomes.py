"""What came of a run, in one line, for every list that shows runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fennox.catalogue.models import Run

Result = dict[str, Any]


def outcome(run: Run) -> str:
    """Its reason, what it did, or the step it is at; empty if there is nothing to say yet."""
    if run.reason:
        return run.reason
    if run.state == "done":
        told = _SAID.get(run.kind)
        return told(run.result) if told is not None else ""
    return run.step if run.state == "running" else ""


def size(count: object) -> str:
    """Bytes in decimal units."""
    amount = float(str(count or 0))
    for unit in ("B", "kB", "MB"):
        if amount < 1000:
            return f"{amount:.0f} {unit}" if unit == "B" or amount >= 100 else f"{amount:.1f} {unit}"
        amount /= 1000
    return f"{amount:.1f} GB"


def _take(result: Result) -> str:
    new = "unchanged" if result.get("unchanged") else f"{size(result.get('new_bytes'))} new"
    differs = difference(result)
    return f"{result.get('documents', 0)} documents, {new}" + (f" ({differs})" if differs else "")


def difference(result: Result) -> str:
    """``2 documents changed, 1 document gone``; nothing if nothing differs, or if that is not known."""
    counts = [(word, count) for word in ("changed", "new", "gone") if (count := result.get(word))]
    return ", ".join(f"{count} document{'' if count == 1 else 's'} {word}" for word, count in counts)


def _restore(result: Result) -> str:
    if "undone" in result:
        return f"given up, {result['undone']} of its steps undone"
    return "proved: all that was compared is there again" if result.get("proved") else "not proved"


def _copy(result: Result) -> str:
    anew = ", sealed anew" if result.get("sealed_anew") else ""
    return f"from {result.get('from')}, {size(result.get('new_bytes'))} new{anew}"


def _scrub(result: Result) -> str:
    text = f"{result.get('objects', 0)} objects, {size(result.get('bytes'))}"
    if result.get("damaged_backups"):
        return f"{text}; {result['damaged_backups']} backups cannot be read whole"
    if result.get("passed_over"):
        text += f", {result['passed_over']} packs in a later one"
    return f"{text}; {result['damaged']} damaged, healed" if result.get("damaged") else f"{text}; nothing is damaged"


def _sweep(result: Result) -> str:
    if result.get("preview"):
        return f"only looked: {size(result.get('freed'))} now, {size(result.get('later'))} after the grace"
    return f"{result.get('records', 0)} backups removed, {size(result.get('freed'))} freed"


_SAID: dict[str, Callable[[Result], str]] = {
    "take": _take,
    "look": lambda result: f"it differs: {result['differs']}" if result.get("differs") else "as its last backup",
    "restore": _restore,
    "draft": lambda _: "run sheet written",
    "copy": _copy,
    "scrub": _scrub,
    "verify": lambda result: f"{result.get('opened', 0)} of {result.get('backups', 0)} opened and read whole",
    "sweep": _sweep,
    "rekey": lambda result: (
        f"{result.get('backups', 0)} backups sealed anew, key generation {result.get('generation')}"
    ),
    "adopt": lambda result: f"{result.get('backups', 0)} backups of {result.get('systems', 0)} systems brought in",
}
