"""A run's outcome in one line, for lists of runs."""

from __future__ import annotations

from typing import assert_never

from fennox.catalogue.models.runs import Run
from fennox.core.facts.run_results import (
    AdoptResult,
    CopyResult,
    DeployResult,
    DraftResult,
    KeyResult,
    LookResult,
    PreviewResult,
    RekeyResult,
    RestoreResult,
    RunResult,
    ScrubResult,
    SweepResult,
    TakeResult,
    UndoResult,
    VerifyResult,
)
from fennox.core.words import counted, size


def outcome(run: Run) -> str:
    """Its failure reason, result, or present step; empty if there is nothing yet."""
    if run.reason:
        return run.reason
    if run.state == "done":
        return in_words(run.result) if run.result is not None else ""
    return run.step if run.state == "running" else ""


def in_words(result: RunResult) -> str:
    match result:
        case TakeResult():
            return _take(result)
        case LookResult():
            return f"it differs: {result.differs}" if result.differs else "as its last backup"
        case DraftResult():
            return "run sheet written"
        case RestoreResult():
            return "proved: all that was compared is there again" if result.proved else "not proved"
        case UndoResult():
            return f"given up, {counted(result.undone, 'step')} undone"
        case CopyResult():
            anew = ", resealed" if result.sealed_anew else ""
            return f"from {result.source}, {size(result.new_bytes)} new{anew}"
        case ScrubResult():
            return _scrub(result)
        case VerifyResult():
            return f"{result.opened} of {counted(result.backups, 'backup')} opened and read whole"
        case SweepResult():
            return f"{counted(result.records, 'backup')} removed, {size(result.freed)} freed"
        case PreviewResult():
            return f"only looked: {size(result.freed)} now, {size(result.later)} after the grace"
        case RekeyResult():
            return (
                f"{counted(result.backups, 'backup')} resealed, key generation {result.generation}"
            )
        case AdoptResult():
            return (
                f"{counted(result.backups, 'backup')} of {counted(result.systems, 'system')}"
                " brought in"
            )
        case DeployResult():
            return _deployed(result)
        case KeyResult():
            return f"it proved itself by {result.offered}"
        case _:
            assert_never(result)


def _deployed(result: DeployResult) -> str:
    match result.act:
        case "draft":
            return "it is written down what the machine would be made with"
        case "make":
            return f"the new machine answers at {result.address}"
        case "undo":
            return "the machine was taken away"
        case _:
            assert_never(result.act)


def _take(result: TakeResult) -> str:
    new = "unchanged" if result.unchanged else f"{size(result.new_bytes)} new"
    differs = difference(result)
    return f"{counted(result.documents, 'document')}, {new}" + (f" ({differs})" if differs else "")


def difference(result: TakeResult) -> str:
    """As ``2 documents changed, 1 document gone``; empty if nothing differs, or if unknown."""
    counts = (("changed", result.changed), ("new", result.new), ("gone", result.gone))
    return ", ".join(f"{counted(count, 'document')} {word}" for word, count in counts if count)


def _scrub(result: ScrubResult) -> str:
    text = f"{counted(result.objects, 'object')}, {size(result.bytes)}"
    if result.damaged_backups:
        return f"{text}; {counted(result.damaged_backups, 'backup')} cannot be read whole"
    if result.passed_over:
        text += f", {counted(result.passed_over, 'pack')} in a later one"
    return (
        f"{text}; {result.damaged} damaged, healed"
        if result.damaged
        else f"{text}; nothing is damaged"
    )
