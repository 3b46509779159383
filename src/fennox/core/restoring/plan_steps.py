"""The steps of a run sheet, and how each is undone."""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping
from dataclasses import dataclass, replace
from urllib.parse import quote

from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Head
from fennox.core.kinds.actions import Request
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled, filled_json
from fennox.core.kinds.literals import Phase
from fennox.core.kinds.model import Kind
from fennox.core.kinds.steps import StepModel
from fennox.core.names import document_name
from fennox.core.restoring import proving, replicating
from fennox.core.restoring.plan_inputs import (
    RestoreSource,
    Target,
)
from fennox.core.restoring.sheet import Sheet, SheetStep
from fennox.core.words import first_few

SCRATCH = "SCRATCH-FOLDER"  # placeholder of the folder that a validating step makes on the target


RULES = {
    "same": "they must be equal",
    "same-major": "the first number must be equal",
    "not-older": "the target must not be older",
    "any": "any will do",
}


@dataclass(frozen=True)
class WayBack:
    """A restore whose safety copy is put back. ``sheet``: its id; ``undo``: its steps that are
    undone first; ``added``: paths of documents that it added to the target.
    """

    sheet: str
    undo: list[SheetStep]
    added: list[str]


def steps_of(
    kind: Kind,
    source: RestoreSource,
    target: Target,
    parts: list[str],
    settings: Mapping[str, str],
    *,
    saves: bool,
    back: WayBack | None = None,
) -> list[SheetStep]:
    """``saves``: whether a safety copy of the target is taken first."""
    steps = [_first_step(saves=saves)]
    if back is not None:
        steps += _undone_first(back)
    for index, phase, step in _in_order(kind, returning=back is not None):
        if step.parts and not any(part in parts for part in step.parts):
            continue
        if any(part in parts for part in step.without_parts):
            continue
        if not replicating.is_for(source.replica, step):
            continue
        names = names_for(kind, step, source.head, target.census)
        if step.each is not None and not names:
            continue
        if back is not None and back.added and phase not in ("prepare", "clear", "write"):
            steps.append(_removal(len(steps) + 1, back.added))
            back = replace(back, added=[])
        planned = _sheet_step(len(steps) + 1, phase, index, step, names, settings)
        begun_by = [one.number for one in steps if step.ends is not None and one.title == step.ends]
        more = {
            "ends": begun_by[-1] if begun_by else None,
            "size": _bytes_sent(step, names, source.sizes),
        }
        steps.append(planned.model_copy(update=more))
    if back is not None and back.added:
        steps.append(_removal(len(steps) + 1, back.added))
    steps.append(
        SheetStep(
            number=len(steps) + 1,
            phase="check",
            title="Prove it: compare every name in the backup with the target, before and after",
            do="proof",
            kind_step=None,
        )
    )
    return steps


def _undone_first(back: WayBack) -> list[SheetStep]:
    fresh = {"state": "waiting", "started": None, "ended": None, "detail": "", "undoes": None}
    return [
        step.model_copy(update={**fresh, "number": number})
        for number, step in enumerate(back.undo, 2)
    ]


def _removal(number: int, paths: list[str]) -> SheetStep:
    return SheetStep(
        number=number,
        phase="write",
        title="Take away the documents that the restore added",
        do="remove",
        kind_step=None,
        names=sorted(paths, reverse=True),  # what lies in a folder goes before it
        undone=False,
    )


def _first_step(*, saves: bool) -> SheetStep:
    """Both check that the target still is as the sheet shows."""
    if saves:
        return SheetStep(
            number=1,
            phase="prepare",
            title="Save what the target holds now, as a backup on hold",
            do="safety",
            kind_step=None,
        )
    return SheetStep(
        number=1,
        phase="prepare",
        title="Check that the target is still as this sheet shows",
        do="look",
        kind_step=None,
    )


def _in_order(kind: Kind, *, returning: bool = False) -> list[tuple[int, Phase, StepModel]]:
    """Steps with their positions in the kind; steps that use the target's own programs come after
    the gate that installs them. ``returning``: what was added is taken away before anything is
    written, and nothing is checked but what the safety copy holds.
    """
    steps = _forward(kind)
    if returning:
        # checks are of a system that is whole; the machine may never have been that
        steps = [one for one in steps if one[2].do not in ("check", "agree")]
        away: list[tuple[int, Phase, StepModel]] = [
            (index, "clear", step) for index, step in enumerate(kind.clear_steps())
        ]
        first = sum(phase == "prepare" for _, phase, _ in steps)
        steps[first:first] = away
    return steps


def _forward(kind: Kind) -> list[tuple[int, Phase, StepModel]]:
    steps = [(index, phase, step) for index, (phase, step) in enumerate(kind.steps())]
    last = max(
        (index for index, phase, step in steps if phase == "prepare" and step.do == "gate"),
        default=-1,
    )
    early = [one for one in steps[: last + 1] if one[2].do == "validate"]
    return [*(one for one in steps[: last + 1] if one not in early), *early, *steps[last + 1 :]]


def undo_anew(kind: Kind, head: Head, sheet: Sheet) -> list[SheetStep]:
    """Undo steps by the present version of the kind, which was corrected since. Finished undo steps
    stay finished.
    """
    shown = {**sheet.settings, **replicating.placeholders(sheet.replica), **veiled(kind)}
    planned = undo_steps(kind, head, sheet.fresh_census, sheet.steps, shown)
    before = {(step.undoes, step.title): step for step in sheet.undo if step.state == "done"}
    return [before.get((step.undoes, step.title), step) for step in planned]


def undo_steps(
    kind: Kind, head: Head, target: Census, steps: list[SheetStep], settings: Mapping[str, str]
) -> list[SheetStep]:
    """The undo steps of the sheet, in reverse order."""
    found = []
    for index, step in enumerate(kind.undo_steps()):
        for undone in steps:
            if undone.kind_step is not None and undone.title == step.undoes:
                names = names_for(kind, step, head, target)
                if step.each is None or names:
                    planned = _sheet_step(0, "undo", index, step, names, settings)
                    found.append(planned.model_copy(update={"undoes": undone.number}))
    found.sort(key=lambda step: -(step.undoes or 0))
    return [
        step.model_copy(update={"number": len(steps) + place})
        for place, step in enumerate(found, 1)
    ]


def _sheet_step(
    number: int,
    phase: Phase,
    index: int,
    step: StepModel,
    names: list[str],
    settings: Mapping[str, str],
) -> SheetStep:
    return SheetStep(
        number=number,
        phase=phase,
        title=step.title,
        do=step.do,
        kind_step=index,
        names=names,
        commands=commands_in(step, names, settings),
        restarts=step.restarts,
        undone=step.undone,
        no_return=step.no_return,
        repeat=step.repeat,
        stoppable=step.stoppable,
        meanwhile=step.meanwhile,
    )


def _bytes_sent(
    step: StepModel, names: list[str], sizes: Mapping[str, Mapping[str, int]]
) -> int | None:
    if step.do in ("write", "validate", "offer"):
        return sum(sum(sizes.get(part, {}).values()) for part in step.parts)
    if step.document is None:
        return None
    held = sizes.get(step.parts[0], {})
    return sum(
        next((held[shape] for shape in documents_of(step.document, name) if shape in held), 0)
        for name in names or [""]
    )


def documents_of(pattern: str, name: str) -> list[str]:
    """Paths that the document of a step may have for a listed name: as it is, and
    percent-encoded (``%2F``).
    """
    return [
        filled(pattern, {"name": shape}) for shape in dict.fromkeys((name, document_name(name)))
    ]


def names_for(kind: Kind, step: StepModel, head: Head, target: Census) -> list[str]:
    """The names a step repeats over. Extra names are unknown if the backup never counted the
    list.
    """
    if step.each is None:
        return []
    if step.each.names == "extra" and step.each.list not in proving.counted_lists(kind, head):
        return []
    backup = head.census
    ours, theirs = backup.get(step.each.list, []), target.get(step.each.list, [])
    if step.each.names == "all":
        return list(ours)
    if step.each.names == "missing":
        return [name for name in ours if name not in theirs]
    return [name for name in theirs if name not in ours]


def commands_of(step: StepModel, names: list[str], settings: Mapping[str, str]) -> list[list[str]]:
    """The commands of a step as word lists, one per name it repeats over."""
    if step.run is None:
        return []
    if step.do == "validate":
        settings = {"scratch": SCRATCH, **settings}
    if step.each is None:
        return [command(step.run, settings)]
    return [command(step.run, {**settings, "name": name}, told=("name",)) for name in names]


_OFFERED = {
    "offer-host": "‹host of the drop›",
    "offer-port": "‹port of the drop›",
    "offer-account": "‹account for this step›",
    "offer-secret": "‹secret for this step›",
    "offer-key": "‹fingerprint of the drop›",
}


def veiled(kind: Kind) -> dict[str, str]:
    """How secrets, and what is known only when a step begins, are shown in what it sends."""
    return {**{name: f"‹{name}›" for name in kind.secret_settings()}, **_OFFERED}


def commands_in(step: StepModel, names: list[str], settings: Mapping[str, str]) -> list[str]:
    shown = [shlex.join(words) for words in commands_of(step, names, settings)]
    if step.do == "command" and step.document is not None:
        fed = [
            step.document if step.each is None else step.document.replace("{name}", name)
            for name in names or [""]
        ]
        shown = [f"{line}  < {document}" for line, document in zip(shown, fed, strict=True)]
    if step.do == "offer":
        parts = ", ".join(step.parts)
        shown.append(f"offered at the drop for as long as this step takes, read-only: {parts}")
    if step.request is not None:
        repeated = names if step.do in ("request", "upload") else []
        values = [named_in_request(step, settings, name) for name in repeated or [""]]
        shown += [_sent(step, step.request, one) for one in values]
    if step.ask is not None:
        shown.append(step.ask.replace("{names}", first_few(names, 8)))
    return shown


@dataclass(frozen=True)
class RequestValues:
    """Values of placeholders. ``path``: those in the path, where names are percent-encoded."""

    path: Mapping[str, str]
    body: Mapping[str, str]


def named_in_request(step: StepModel, settings: Mapping[str, str], name: str) -> RequestValues:
    """With the name that a step repeats over, if it does."""
    if step.each is None:
        return RequestValues(settings, settings)
    path = {**settings, "name": quote(name, safe="")}
    return RequestValues(path, {**settings, "name": name})


def _sent(step: StepModel, request: Request, values: RequestValues) -> str:
    body = ""
    if request.json_body is not None:
        told = filled_json(request.json_body, values.body)
        body = f" {json.dumps(told, ensure_ascii=False)}"
    if step.do == "upload" and step.document is not None:
        body = f"  < {filled(step.document, values.body)}"
    return f"{request.method} {filled(request.path, values.path)}{body}"
