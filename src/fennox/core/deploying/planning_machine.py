"""What a new machine is made with, and the steps that make it. Pure."""

from __future__ import annotations

import json
import shlex
from collections.abc import Iterator, Mapping

from fennox.core.deploying.deployment import ChosenValue, MakingStep, Origin
from fennox.core.errors import BadInput
from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Finding
from fennox.core.kinds.actions import Request
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled, filled_json
from fennox.core.kinds.model import Kind
from fennox.core.kinds.new_machines import NewMachine
from fennox.core.kinds.steps import StepModel, UndoStep
from fennox.core.names import printable
from fennox.core.regexes import compiled


def chosen(
    host: Kind, guest: Kind, system: str, census: Census, given: Mapping[str, str]
) -> list[ChosenValue]:
    """``given`` by a person goes before what the guest's kind says, that before the default of the
    host's; a machine without another name is called like its system.
    """
    made = new_machine(host)
    drawn = {one.value: one for one in guest.deployment}
    found = []
    for value in made.value:
        of_kind = drawn.get(value.name)
        if value.name in given:
            found.append(_value(value.name, value.title, given[value.name], "given"))
        elif of_kind is not None and of_kind.is_ is not None:
            found.append(_value(value.name, value.title, of_kind.is_, "kind"))
        elif of_kind is not None and (names := census.get(of_kind.from_ or "", [])):
            found.append(_value(value.name, value.title, names[0], "backup"))
        elif value.default:
            found.append(_value(value.name, value.title, value.default, "host"))
        elif value.name == "name":
            found.append(_value(value.name, value.title, system, "system"))
        else:
            found.append(_value(value.name, value.title, "", "nobody"))
    return found


def _value(name: str, title: str, value: str, origin: Origin) -> ChosenValue:
    return ChosenValue(name=name, title=title, value=value, origin=origin)


def new_machine(host: Kind) -> NewMachine:
    """Raises BadInput for a kind on whose systems no machine can be made."""
    if host.new_machine is None:
        raise BadInput(
            f"Nothing says how a machine is made on {host.title}.",
            "Choose another host, or say it in its kind: [new_machine].",
            field="host",
        )
    return host.new_machine


def must_be_values(host: Kind, given: Mapping[str, str]) -> None:
    """Raises BadInput for a value that no machine of this host has."""
    known = [value.name for value in new_machine(host).value]
    for name in given:
        if name not in known:
            raise BadInput(
                f"A machine on {host.title} is not made with {printable(name)}.",
                f"It has: {', '.join(known)}.",
                field="values",
            )


def misfits(host: Kind, values: list[ChosenValue]) -> Iterator[Finding]:
    """What is missing, and what the host would not take."""
    for rule, one in zip(new_machine(host).value, values, strict=True):
        if not one.value:
            text, code = f"It is not known: {one.title}.", "value-missing"
        elif not compiled(rf"\A(?:{rule.fits})\z").fits(one.value):
            text = f"{printable(one.value)} is none that fits: {one.title}."
            code = "value-unfit"
        else:
            continue
        remedy = f"Draft again with --value {one.name}=VALUE."
        yield Finding(severity="blocker", code=code, subject=one.name, text=text, remedy=remedy)


def steps_of(host: Kind, values: Mapping[str, str]) -> tuple[list[MakingStep], list[MakingStep]]:
    """What makes the machine, and what takes it away again."""
    made = new_machine(host)
    steps = [
        MakingStep(number=number, title=step.title, command=_sent(step, values))
        for number, step in enumerate(made.step, 1)
    ]
    numbers = {step.title: step.number for step in steps}
    undo = [
        MakingStep(
            number=number,
            title=step.title,
            command=_sent(step, values),
            undoes=numbers[step.undoes],
        )
        for number, step in enumerate(made.undo, 1)
    ]
    return steps, undo


def model_of(host: Kind, step: MakingStep) -> StepModel | UndoStep:
    made = new_machine(host)
    return made.step[step.number - 1] if step.undoes is None else made.undo[step.number - 1]


def _sent(step: StepModel, values: Mapping[str, str]) -> str:
    if step.run is not None:
        return shlex.join(command(step.run, values))
    assert step.request is not None
    return in_words(step.request, values)


def in_words(request: Request, values: Mapping[str, str]) -> str:
    said = f"{request.method} {filled(request.path, values)}"
    if request.json_body is None:
        return said
    return f"{said} {json.dumps(filled_json(request.json_body, values), ensure_ascii=False)}"
