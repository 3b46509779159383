"""How a machine comes to be on a host, and what one for a system is made with, in a kind file."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from fennox.core.kinds.actions import KindModel, Request, Words
from fennox.core.kinds.steps import StepModel, UndoStep
from fennox.core.names import Noun


class MachineValue(KindModel):
    """A value of a new machine on such a host, as `{name}` in the steps that make it."""

    name: Noun
    """One of them is `name`: that of the machine on its host."""
    title: str
    """What it is, for people."""
    default: str = ""
    """What it is where nobody says otherwise."""
    fits: str = ".+"
    """A regular expression that the whole value must fit."""


class HostTells(KindModel):
    """What the host tells of its machines, or of a new one once that is awake."""

    run: Words | None = None
    """A command, and what in its output is meant: `regex`."""
    request: Request | None = None
    """Or a request, and what in its answer is meant: `jsonpath`."""
    regex: str | None = None
    """A regular expression with one group."""
    jsonpath: str | None = None
    """A JSONPath."""
    within: Annotated[int, Field(ge=0, le=86400)] = 300
    """Seconds in which a new machine must be awake."""

    @model_validator(mode="after")
    def one_way(self) -> HostTells:
        by_command = self.run is not None and self.regex is not None
        by_request = self.request is not None and self.jsonpath is not None
        given = [self.run, self.request, self.regex, self.jsonpath]
        if by_command == by_request or sum(one is not None for one in given) != 2:
            raise ValueError("give either run with regex, or request with jsonpath")
        return self


class NewMachine(KindModel):
    """How a machine comes to be on such a host."""

    value: list[MachineValue]
    """What it is made with; people may give others."""
    names: HostTells
    """All machines there are on the host: one of the same name is never touched."""
    must: list[StepModel] = []
    """Checks of the host, before anything is made."""
    step: Annotated[list[StepModel], Field(min_length=1)]
    """What makes and starts it: commands, requests and checks that do no harm when repeated."""
    undo: list[UndoStep] = []
    """What takes it away again, by the titles of these steps."""
    address: HostTells
    """Where it answers."""
    key: HostTells
    """By which host key or certificate."""

    @model_validator(mode="after")
    def made_by_what_can_be_repeated(self) -> NewMachine:
        for step in (*self.must, *self.step, *self.undo):
            if step.do not in ("command", "request", "check") or step.parts or not step.repeat:
                raise ValueError(
                    f"step {step.title!r}: a machine is made by commands, requests and checks that"
                    " may be repeated and are for no part"
                )
        if any(step.do != "check" for step in self.must):
            raise ValueError("must holds checks alone")
        if "name" not in [value.name for value in self.value]:
            raise ValueError("one value is called name: that of the machine on its host")
        return self


class DrawnValue(KindModel):
    """What a new machine for such a system is made with on a host."""

    value: Noun
    """The name of the host's value."""
    is_: Annotated[str | None, Field(alias="is")] = None
    """Always this."""
    from_: Annotated[str | None, Field(alias="from")] = None
    """Or the first name in this census list of the backup."""

    @model_validator(mode="after")
    def from_somewhere(self) -> DrawnValue:
        if (self.is_ is None) == (self.from_ is None):
            raise ValueError("give either is or from")
        return self
