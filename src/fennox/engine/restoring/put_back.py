"""A restore that is taken up again on a target which somebody put back meanwhile to what it was
before.
"""

from __future__ import annotations

from fennox.core.errors import FennoxError
from fennox.core.restoring.sheet import Gate, Sheet
from fennox.engine.backups.backup_reader import BackupReader, backup_digests
from fennox.engine.restoring.targets import ReachedTarget


async def asks_whether_it_was_put_back(reached: ReachedTarget, reader: BackupReader) -> bool:
    """Whether a person must say what became of the target: what was written to it is not there any
    more.

    Only where a restore is taken up again. A target that was put back to an earlier snapshot would
    else be given the rest of the steps and never be whole.
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
        or not await _was_put_back(reached, reader)
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
    """All that was done to the target is to be done again; the safety copy holds what it held
    before.
    """
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
            other.step = None  # its answer was about work that is being repeated
    sheet.rejoined = False


async def _was_put_back(reached: ReachedTarget, reader: BackupReader) -> bool:
    """Whether of all files that done steps have changed on the target not one is there. False: it
    cannot be told.

    Programs may show what was written only once they were restarted, so that files alone are looked
    at.
    """
    done = sorted(_parts_written(reached))
    held = await backup_digests(reader, done)
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
    """Parts whose files done steps have written to the target."""
    models = reached.kind.steps()
    return {
        part
        for step in reached.sheet.steps
        if step.kind_step is not None and step.do == "write" and step.state == "done"
        for part in models[step.kind_step][1].parts
    }
