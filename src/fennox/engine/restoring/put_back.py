"""Resuming a restore on a target that somebody meanwhile set back to its earlier state."""

from __future__ import annotations

from fennox.core.errors import FennoxError
from fennox.core.restoring.sheet import Gate, Sheet
from fennox.engine.restoring.placed_backup import PlacedBackup
from fennox.engine.restoring.targets import ReachedTarget


async def asks_whether_it_was_put_back(reached: ReachedTarget, backup: PlacedBackup) -> bool:
    """Whether a person must explain the target because everything written to it is gone. Asked only
    when a restore resumes. Otherwise a target set back to an earlier snapshot would get only the
    remaining steps and never be complete.
    """
    sheet = reached.sheet
    gate = sheet.gate_of("put back", None)
    if gate is not None and gate.answer is None:
        return True
    if gate is not None and gate.answer == "write again":
        _begin_again(sheet, gate)
    if (
        sheet.giving_up
        or (gate is not None and gate.answer == "go on")
        or not await _was_put_back(reached, backup)
    ):
        return False
    sheet.ask_anew(
        "put back",
        None,
        "The target no longer holds what was written to it: it is as it was before the restore."
        " Somebody may have put it back to an earlier state.",
        ["write again", "go on"],
    )
    return True


def _begin_again(sheet: Sheet, gate: Gate) -> None:
    """Repeat every step; the safety copy still holds the target's original state."""
    gate.answer = "written again"
    for step in sheet.steps:
        if step.do not in ("safety", "look", "proof") and step.state in (
            "done",
            "doing",
            "failed",
            "unknown",
        ):
            step.state, step.detail = "waiting", ""
    for other in sheet.gates:
        if other.kind in ("step", "unknown"):
            other.step = None  # its answer concerned work now being repeated
    sheet.rejoined = False


async def _was_put_back(reached: ReachedTarget, backup: PlacedBackup) -> bool:
    """Whether none of the files changed by finished steps exists on the target. False if unknown.
    Only files are checked, because programs may show changes only after a restart.
    """
    done = sorted(_parts_written(reached))
    held = await backup.digests(done)
    overwrites = reached.sheet.overwrites
    written = {*overwrites.changed, *overwrites.added}
    telling = [(part, path) for part, its in held.items() for path in its if path in written]
    if not telling:
        return False
    try:
        now = await reached.look(done)
    except FennoxError as error:
        await reached.journal.log(
            "warning", f"Whether the target still holds what was written is not known: {error}"
        )
        return False
    return not any(
        now.documents.get(part, {}).get(path) == held[part][path] for part, path in telling
    )


def _parts_written(reached: ReachedTarget) -> set[str]:
    """Parts whose files finished steps have written."""
    models = reached.kind.steps()
    return {
        part
        for step in reached.sheet.steps
        if step.kind_step is not None and step.do == "write" and step.state == "done"
        for part in models[step.kind_step][1].parts
    }
