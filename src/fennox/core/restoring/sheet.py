"""The run sheet: a restore step by step, with the durable state of each step."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal, assert_never

from pydantic import Field, model_validator

from fennox.core.format.manifest import Finding
from fennox.core.kinds.literals import Phase
from fennox.core.kinds.steps import Meanwhile, Verb
from fennox.core.places.placed import Placed
from fennox.core.places.sheet_model import RestorePurpose, SheetModel
from fennox.core.restoring.proof import Proof
from fennox.core.restoring.replicating import ReplicaPlan
from fennox.core.time import Aware

StepState = Literal["waiting", "doing", "done", "not needed", "failed", "unknown"]
SheetState = Literal[
    "draft",
    "running",
    "waiting",
    "proved",
    "not proved",
    "failed",
    "stopped",
    "given up",
    "returned",
]
SheetAct = Literal["begin", "continue", "prove", "undo", "return", "answer", "accept", "release"]
GateKind = Literal["step", "facts", "unknown", "put back", "undo"]


class Place(SheetModel):
    """A machine's address, account, and host key or certificate."""

    address: str
    account: str
    key: str


class Overwrites(SheetModel):
    """Effect on the target's documents; ``changed`` and ``added`` name at most 200 each."""

    changed: list[str] = []
    added: list[str] = []
    changed_count: int = 0
    added_count: int = 0
    same_count: int = 0
    staying_count: int = 0
    digest: str = ""


class Facts(SheetModel):
    """What a person saw when agreeing to the sheet. If any of it differs at the start, they are
    asked again.
    """

    backup: str
    kind: str
    target_machine: str
    target_version: str
    target_address: str
    target_key: str
    overwrites: str
    places: str = ""  # digest of the target's documents that hold values of the place


class SheetStep(SheetModel):
    """One step. ``commands`` show in full what is sent to the target."""

    number: int
    phase: Phase
    title: str
    do: Verb | Literal["safety", "look", "remove", "proof"]
    # index in the kind's steps of its phase; None for safety copy, look and proof
    kind_step: int | None
    undoes: int | None = None  # number of the step it undoes
    names: list[str] = []
    commands: list[str] = []
    made: list[str] = []  # folders that it makes so that documents can lie in them
    size: int | None = None  # bytes of documents it sends; None: it sends none
    restarts: bool = False
    undone: bool = True
    no_return: bool = False
    repeat: bool = True
    stoppable: bool = True
    meanwhile: Meanwhile | None = None
    ends: int | None = None  # number of the step whose meanwhile it ends
    released_by: str = ""  # the person who says that its meanwhile is over
    state: StepState = "waiting"
    usually: float | None = None  # seconds, from earlier restores of the kind; None: unknown
    answered: int | None = None  # gate whose answer about an unknown state was used
    done_otherwise: bool = False  # done before a redraft, by commands that were other than these
    started: Aware | None = None
    ended: Aware | None = None
    detail: str = ""
    passed: bool | None = None  # result of a check; None: not run


class Gate(SheetModel):
    """A task or question for a person."""

    number: int
    kind: GateKind
    step: int | None
    question: str
    choices: list[str]
    answer: str | None = None
    by: str | None = None
    at: Aware | None = None


class After(SheetModel):
    """Expected address, account and key afterwards, with the reason for each."""

    place: Place
    login: Literal["target", "system"]  # login that holds the account's secret
    address_because: str
    account_because: str
    key_because: str


class Sheet(SheetModel):
    """Versioned data: every change of choices or facts is a new version."""

    @model_validator(mode="before")
    @classmethod
    def _of_before(cls, data: Any) -> Any:
        """Sheets before December 2026 had no purpose, but could take over a system."""
        if not isinstance(data, dict) or "purpose" in data:
            return data
        kept = dict(data)
        elsewhere, takes_over = kept.pop("at_another_machine", False), kept.pop("takes_over", None)
        kept["purpose"] = "repair" if not elsewhere else "replace" if takes_over else "practise"
        proof = kept.get("proof") or {}
        if kept["purpose"] == "replace" and proof.get("proved"):
            kept["accepted"] = proof["at"]  # the system had moved when it was proved
        return kept

    format: Literal[1] = 1
    version: Annotated[int, Field(ge=1)] = 1
    backup: str
    backup_taken: Aware | None = None
    purpose: RestorePurpose
    system: str
    system_name: str
    system_address: str = ""  # at the time of the draft
    spare: str | None = None  # name of the enrolled spare that is the target
    new_name: str | None = None  # name of the system a seed becomes
    returns: str | None = None  # id of the sheet whose safety copy is put back
    return_on_failure: bool = False  # a person chose it when the restore began
    kind: str
    kind_version: int
    parts: list[str]
    target: Place
    entrance: Place | None = None  # where steps connect, if not where the target is read
    target_machine: str
    target_product: str
    target_version: str
    # frozen for steps and paths; later changes of the system's settings do not apply
    settings: dict[str, str] = {}
    secrets: dict[str, str] = {}  # names of the logins that settings mean, likewise
    seen_secrets: dict[str, str] = {}  # id of each of these logins, when a person last agreed
    seen_settings: dict[str, str] = {}  # the system's settings when a person last agreed
    seen_login: str = ""  # id of the target's login, likewise
    placed: Placed = Placed()
    replica: ReplicaPlan | None = None
    findings: list[Finding]
    steps: list[SheetStep]
    undo: list[SheetStep] = []
    giving_up: bool = False
    gates: list[Gate] = []
    overwrites: Overwrites
    restarts: list[str]
    cannot_be_undone: list[str]
    after: After
    facts: Facts
    fresh_census: dict[str, list[str]]
    safety: str | None = None
    rejoined: bool = False
    # the machine will present another id or key than the system's known one
    new_identity: bool = False
    proof: Proof | None = None
    accepted: Aware | None = None
    accepted_by: str = ""
    state: SheetState = "draft"

    def all_settings(self) -> dict[str, str]:
        """Also those that name logins."""
        return {**self.settings, **self.secrets}

    def blockers(self) -> list[Finding]:
        return [finding for finding in self.findings if finding.severity == "blocker"]

    def acts(self) -> list[SheetAct]:
        """What a person may do now. ``begin`` and ``continue`` may still be blocked."""
        if self.state == "waiting" and self.open_gate() is not None:
            return ["answer"]
        back: list[SheetAct] = ["return"] if self.can_return() else []
        still = self.state in ("failed", "stopped", "not proved", "given up")
        release: list[SheetAct] = ["release"] if still and self.in_force() else []
        back += release
        if self.giving_up:
            return ["undo", *back] if self.state in ("failed", "stopped") else back
        undo: list[SheetAct] = ["undo"] if self.begun() and self.purpose != "return" else []
        match self.state:
            case "draft":
                return ["begin"]
            case "failed" | "stopped":
                on: list[SheetAct] = [] if self.released() else ["continue"]
                return [*on, *undo, *back]
            case "not proved":
                return ["prove", *undo, *back]
            case "proved":
                return ["accept", "prove", *back] if self.awaits_acceptance() else ["prove", *back]
            case "given up":
                return back
            case "running" | "waiting" | "returned":
                return []
            case _:
                assert_never(self.state)

    def can_return(self) -> bool:
        """Whether the safety copy can be put back: something was done to the target, no point of
        no return was passed, and nobody has accepted the target.
        """
        return (
            self.safety is not None
            and self.accepted is None
            and self.state not in ("draft", "running", "waiting", "returned")
            and bool(self.begun())
            and not self.no_way_back()
        )

    def no_way_back(self) -> list[str]:
        """Titles of begun steps after which nothing leads back."""
        return [step.title for step in self.begun() if step.no_return]

    def awaits_acceptance(self) -> bool:
        """Proved, but a person has not yet accepted the target as the system."""
        if self.state != "proved" or self.accepted is not None:
            return False
        match self.purpose:
            case "repair":
                return self.new_identity
            case "replace" | "seed":
                return True
            case "practise" | "return":
                return False
            case _:
                assert_never(self.purpose)

    def expected_seconds(self) -> float | None:
        """Usual duration without the person's own work; None: some step was never done before."""
        seconds = [step.usually for step in self.steps if step.do != "gate"]
        return sum(one for one in seconds if one is not None) if None not in seconds else None

    def settled(self) -> datetime | None:
        """When the restore was settled; None: it may still be needed."""
        if self.state != "proved" or self.awaits_acceptance():
            return None
        if self.accepted is not None:
            return self.accepted
        return self.proof.at if self.proof is not None else None

    def begun(self) -> list[SheetStep]:
        """Steps that changed the target, or may have."""
        return [
            step
            for step in self.steps
            if step.kind_step is not None and step.state not in ("waiting", "not needed")
        ]

    def done_to_target(self) -> list[str]:
        """Titles of finished steps that may have changed the target."""
        changing = ("write", "upload", "offer", "command", "request", "rejoin")
        return [step.title for step in self.begun() if step.state == "done" and step.do in changing]

    def to_undo(self) -> list[SheetStep]:
        """Undo steps of begun steps, in reverse order."""
        begun = {step.number for step in self.begun()}
        return [step for step in self.undo if step.undoes in begun]

    def made(self) -> list[str]:
        """Folders that no part holds, and that were not there before."""
        return sorted({path for step in self.steps for path in step.made})

    def staying(self) -> list[str]:
        """Titles of begun steps that cannot be undone."""
        return [step.title for step in self.begun() if not step.undone]

    def in_force(self) -> list[SheetStep]:
        """Begun steps that left the target in a state which no finished step has ended since, and
        nobody released.
        """
        over = {step.ends for step in self.steps if step.state == "done"}
        over |= {step.undoes for step in self.undo if step.state == "done"}
        return [
            step
            for step in self.begun()
            if step.meanwhile is not None
            and not step.released_by
            and step.number not in over
            and self.state != "returned"  # the way back has gone through the same steps
        ]

    def released(self) -> list[SheetStep]:
        """Steps whose state on the target a person ended: what follows them relies on it."""
        return [step for step in self.steps if step.released_by]

    def begin_proof_again(self) -> None:
        """Run the proof and all checks again; no step that changes the target is repeated."""
        for step in self.steps:
            if step.do in ("proof", "check", "agree"):
                step.state, step.detail, step.passed = "waiting", "", None

    def give_up(self, by: str, at: datetime) -> None:
        """Switch to undoing; open gates are void."""
        if not self.giving_up:
            for gate in self.gates:
                if gate.answer is None:
                    gate.answer, gate.by, gate.at = "given up", by, at
        self.giving_up = True

    def open_gate(self) -> Gate | None:
        return next((gate for gate in self.gates if gate.answer is None), None)

    def gate_of(self, kind: GateKind, step: int | None) -> Gate | None:
        """The newest gate of this kind for a step."""
        return next(
            (gate for gate in reversed(self.gates) if gate.kind == kind and gate.step == step), None
        )

    def ask(self, kind: GateKind, step: int | None, question: str, choices: list[str]) -> Gate:
        """The gate of this kind for a step; created if missing."""
        return self.gate_of(kind, step) or self.ask_anew(kind, step, question, choices)

    def ask_anew(self, kind: GateKind, step: int | None, question: str, choices: list[str]) -> Gate:
        gate = Gate(
            number=max((one.number for one in self.gates), default=0) + 1,
            kind=kind,
            step=step,
            question=question,
            choices=choices,
        )
        self.gates.append(gate)
        return gate
