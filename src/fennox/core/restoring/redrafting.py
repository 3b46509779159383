"""Drafting a sheet anew without losing what is done. Pure."""

from __future__ import annotations

from fennox.core.restoring.sheet import Sheet, SheetStep

_LOOKS = ("look", "check", "proof")  # these look again


def carried_over(then: Sheet, now: Sheet) -> Sheet:
    """``now`` with everything that is done on ``then``: safety copy, answers, and steps that are
    the same. A step is done again if what it sends or writes differs.
    """
    if not then.begun() and then.safety is None:
        return now.model_copy(update={"version": then.version + 1})
    done = [step for step in then.steps if step.state == "done" and step.do not in _LOOKS]
    carried = {"state", "started", "ended", "detail", "answered"}
    steps = []
    for step in now.steps:
        before = next((one for one in done if _same(one, step, then, now)), None)
        told = {name: getattr(before, name) for name in carried} if before is not None else {}
        steps.append(step.model_copy(update=told))
    return now.model_copy(
        update={
            "version": then.version + 1,
            "steps": steps,
            "safety": then.safety,
            "fresh_census": then.fresh_census,
            "rejoined": then.rejoined,
            "return_on_failure": then.return_on_failure,
            "gates": [gate for gate in then.gates if gate.answer is not None],
            "state": "stopped",
        }
    )


def _same(one: SheetStep, other: SheetStep, then: Sheet, now: Sheet) -> bool:
    alike = (one.phase, one.title, one.do) == (other.phase, other.title, other.do)
    if not alike:
        return False
    if one.do == "safety":
        return True
    if one.do == "gate":
        return not other.names or other.names == one.names
    if one.do in ("write", "upload", "validate"):
        return (then.placed.rewritten, then.placed.kept, then.kind_version) == (
            now.placed.rewritten,
            now.placed.kept,
            now.kind_version,
        )
    return one.commands == other.commands
