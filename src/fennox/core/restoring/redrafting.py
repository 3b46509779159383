"""Drafting a sheet anew without losing what is done. Pure."""

from __future__ import annotations

from fennox.core.restoring.sheet import Gate, Sheet, SheetStep

_LOOKS = ("look", "check", "agree", "proof")  # these look again


def carried_over(then: Sheet, now: Sheet) -> Sheet:
    """``now`` with everything that is done on ``then``: safety copy, answers, and steps that are
    the same. A step is done again if what it sends or writes differs, or a person ended what it
    had begun. One that must not be repeated is not: if it differs, a person is asked. What is not
    known of such a step stays unknown.
    """
    if not then.begun() and then.safety is None:
        return now.model_copy(update={"version": then.version + 1})
    steps: list[SheetStep] = []
    numbers: dict[int, int] = {}
    for step in now.steps:
        before = next((one for one in then.steps if _alike(one, step)), None)
        if before is None:
            steps.append(step)
            continue
        numbers[before.number] = step.number
        steps.append(step.model_copy(update=_told(before, step, then, now)))
    return now.model_copy(
        update={
            "version": then.version + 1,
            "steps": steps,
            "safety": then.safety,
            "fresh_census": then.fresh_census,
            "rejoined": then.rejoined,
            "return_on_failure": then.return_on_failure,
            "gates": _answered(then.gates, numbers),
            "state": "stopped",
        }
    )


def _answered(gates: list[Gate], numbers: dict[int, int]) -> list[Gate]:
    """Answers, at the steps where they now belong."""
    return [
        gate.model_copy(update={"step": numbers[gate.step] if gate.step is not None else None})
        for gate in gates
        if gate.answer is not None and (gate.step is None or gate.step in numbers)
    ]


def _told(before: SheetStep, step: SheetStep, then: Sheet, now: Sheet) -> dict[str, object]:
    """What the step before tells of the one that takes its place."""
    if before.do in _LOOKS or before.released_by:
        return {}
    if before.state not in ("doing", "unknown", "failed", "done"):
        return {}
    same, once = _same(before, step, then, now), not (before.repeat and step.repeat)
    if not same and not once:
        return {}
    kept = ("state", "started", "ended", "detail", "answered", "made", "done_otherwise")
    told: dict[str, object] = {name: getattr(before, name) for name in kept}
    if before.state == "done" and not same:
        told |= {"state": "unknown", "done_otherwise": True}
    return told


def _alike(one: SheetStep, other: SheetStep) -> bool:
    return (one.phase, one.title, one.do) == (other.phase, other.title, other.do)


def _same(one: SheetStep, other: SheetStep, then: Sheet, now: Sheet) -> bool:
    """Whether both do the same, of two that are alike."""
    if one.do == "safety":
        return True
    if one.do == "gate":
        return not other.names or other.names == one.names
    if one.do in ("write", "upload", "offer", "validate"):
        return (then.placed.rewritten, then.placed.kept, then.kind_version) == (
            now.placed.rewritten,
            now.placed.kept,
            now.kind_version,
        )
    return one.commands == other.commands
