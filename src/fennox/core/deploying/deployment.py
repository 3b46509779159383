"""A new machine for a system, made on a host: what it is made with, by which steps, and how far
that is. Typed data, kept with its row.
"""

from __future__ import annotations

from typing import Literal, assert_never

from pydantic import BaseModel, ConfigDict

from fennox.core.format.manifest import Finding
from fennox.core.time import Aware

Origin = Literal["given", "kind", "backup", "host", "system", "nobody"]
"""Who says so: a person, the kind of the system, its backup, the default of the host's kind, the
system by its name, or nobody yet.
"""
DeploymentState = Literal[
    "drafting", "draft", "making", "made", "failed", "taking away", "taken away", "not drafted"
]
DeploymentAct = Literal["begin", "continue", "undo"]
MadeState = Literal["waiting", "doing", "done", "failed"]


class DeploymentModel(BaseModel):
    model_config = ConfigDict(
        extra="forbid", defer_build=True, json_schema_serialization_defaults_required=True
    )


class ChosenValue(DeploymentModel):
    """What the machine is made with."""

    name: str
    title: str
    value: str
    origin: Origin


class MakingStep(DeploymentModel):
    """``command``: what is sent to the host, in full. ``undoes``: number of the step it undoes."""

    number: int
    title: str
    command: str
    undoes: int | None = None
    state: MadeState = "waiting"
    started: Aware | None = None
    ended: Aware | None = None
    detail: str = ""


class Deployment(DeploymentModel):
    """``kind_version`` of the host's kind: its steps are these, and no later ones. ``address`` and
    ``key``: where the machine answers, and by which key; empty: not known yet.
    """

    system_name: str
    host_name: str
    host_address: str
    kind: str
    kind_version: int
    settings: dict[str, str] = {}
    values: list[ChosenValue] = []
    findings: list[Finding] = []
    steps: list[MakingStep] = []
    undo: list[MakingStep] = []
    address: str = ""
    key: str = ""
    state: DeploymentState = "drafting"

    @property
    def name(self) -> str:
        """Of the machine on its host; empty: none is chosen."""
        return next((one.value for one in self.values if one.name == "name"), "")

    def placeholders(self) -> dict[str, str]:
        return {**self.settings, **{one.name: one.value for one in self.values}}

    def blockers(self) -> list[Finding]:
        return [finding for finding in self.findings if finding.severity == "blocker"]

    def begun(self) -> list[MakingStep]:
        return [step for step in self.steps if step.state != "waiting"]

    def to_undo(self) -> list[MakingStep]:
        """Of the steps that were begun, last one first; what is done already is not done again."""
        begun = {step.number for step in self.begun()}
        due = [one for one in self.undo if one.undoes in begun and one.state != "done"]
        return sorted(due, key=lambda one: one.undoes or 0, reverse=True)

    def acts(self) -> list[DeploymentAct]:
        """What a person may do now; ``begin`` may be blocked."""
        match self.state:
            case "draft":
                return ["begin"]
            case "failed":
                taking = any(one.state != "waiting" for one in self.undo)
                return ["undo"] if taking else ["continue", "undo"]
            case "made":
                return ["undo"]
            case "drafting" | "making" | "taking away" | "taken away" | "not drafted":
                return []
            case _:
                assert_never(self.state)
