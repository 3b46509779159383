"""Steps of a restore in a kind file, and what its target must be."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fennox.core.kinds.actions import KindModel, Request, Until, Words
from fennox.core.kinds.literals import FORWARD, Phase, VersionRule
from fennox.core.kinds.sources import Expression
from fennox.core.names import Noun


class Each(KindModel):
    """Repeats a step for names of a census list: all of the backup's, those missing on the target,
    or extra ones there. If each command is fed its own document, ``{name}`` also applies to the
    document's name.
    """

    names: Literal["all", "missing", "extra"]
    """All names of the backup's list, those missing on the target, or its extra ones."""
    list: str
    """The census list."""


class Meanwhile(KindModel):
    """How a step leaves the target until another step `ends` that; a run sheet names it while it
    lasts, and a restore that stands still meanwhile is a concern.
    """

    state: Literal["mode", "hold", "access"]
    """`mode`: the target is in a special state; `hold`: something must not start or restart yet;
    `access`: something was opened for the restore."""
    says: str
    """What is so meanwhile, as a sentence."""


Verb = Literal[
    "command", "request", "write", "upload", "offer", "gate", "rejoin", "check", "validate", "agree"
]
DECIDED = ("claim", "raise")
"""Placeholders of steps that make a member of a replicated set win: what wins by itself, and by how
much its numbers are raised."""
OFFERED = ("offer-host", "offer-port", "offer-account", "offer-secret", "offer-key")
"""Placeholders of a step that offers documents."""


class StepModel(KindModel):
    """One step of a restore. ``repeat``: running it twice is harmless, so it may be resumed. A
    command with ``document`` gets that document of its only part on standard input. ``validate``:
    writes the documents of its parts into a temporary folder on the target, ``{scratch}``, runs the
    command there, and removes the folder. ``offer``: lays the documents of its parts out at the
    drop for as long as it lasts, and tells the target by ``run`` or ``request`` to fetch them:
    ``{offer-host}``, ``{offer-port}``, ``{offer-account}``, ``{offer-secret}`` and
    ``{offer-key}``, the drop's fingerprint. ``agree``: reads the other members of a replicated set
    and sees whether they have what the target has.
    """

    title: str
    """What it does, for the run sheet."""
    do: Verb
    """What kind of step it is."""
    parts: list[Noun] = []
    """The parts it is for; it is left out where none of them is restored."""
    without_parts: list[Noun] = []
    """It is left out where one of these parts is restored too."""
    when: Literal["win", "win-all", "win-part", "yield", "apart"] | None = None
    """Of a member of a replicated set: the decision that it is for. `win-all` and `win-part`: the
    whole copy wins, or what `{claim}` names; `apart`: it must never meet the others."""
    repeat: bool = True
    """Whether doing it twice does no harm."""
    undone: bool = True
    """Whether it can be undone; a run sheet says so."""
    no_return: bool = False
    """Whether nothing leads back once it began: the safety copy cannot be put back after it."""
    restarts: bool = False
    """Whether something is restarted."""
    replaces: list[str] = []
    """Census lists that it replaces as wholes: names that only the target has are gone then."""
    limit: Annotated[int, Field(gt=0, le=86400)] = 120
    """Seconds it may take."""
    stoppable: bool = True
    """Whether it can be stopped half way; otherwise stopping the restore waits for its end."""
    meanwhile: Meanwhile | None = None
    """How it leaves the target until the step that `ends` it."""
    ends: str | None = None
    """The title of the step whose `meanwhile` it ends."""
    run: Words | None = None
    """The command, as a list of words."""
    codes: list[int] = [0]
    """Exit codes of the command that mean success."""
    request: Request | None = None
    """The request."""
    job: str | None = None
    """A JSONPath to the job's id in the answer to the request, for `{job}`."""
    poll: Request | None = None
    """A request that reports how far what was asked for is; without it, the request itself is
    repeated."""
    until: Until | None = None
    """When the answer to the request, or to `poll`, is final."""
    each: Each | None = None
    """Names to repeat it for, as `{name}`."""
    document: str | None = None
    """The document that is fed to the command or uploaded."""
    ask: str | None = None
    """The question of a gate; `{names}` are those of `each`. With `run` or `request`, the gate is
    open while that does not give what it should, whatever was answered."""
    owners: Literal["names", "numbers"] = "names"
    """Whether files get their owners by name or by number."""
    expect: str | None = None
    """A regular expression that the output of a check or a gate must fit."""
    within: Annotated[int, Field(ge=0, le=86400)] = 0
    """Seconds in which a check that does not pass is made again."""
    gone_within: Annotated[int, Field(ge=0, le=3600)] = 0
    """Seconds within which the machine goes away before it comes back: until then it answers as
    before. 0: it stays."""
    address: Literal["target", "backup"] = "target"
    """Where the machine answers afterwards: as the target did, or as the backup says."""
    account: Literal["target", "backup"] = "target"
    """By which login."""
    key: Literal["target", "backup"] = "target"
    """By which host key or certificate."""

    @model_validator(mode="after")
    def has_what_it_does(self) -> StepModel:
        wanted = {
            "command": self.run is not None and (self.document is None or len(self.parts) == 1),
            "validate": self.run is not None and bool(self.parts),
            "request": self.request is not None,
            "write": len(self.parts) == 1,
            "upload": (
                self.request is not None and self.document is not None and len(self.parts) == 1
            ),
            "offer": (self.run is None) != (self.request is None) and bool(self.parts),
            "gate": self.ask is not None and (self.run is None or self.request is None),
            "rejoin": True,
            "agree": True,
            "check": (self.run is None) != (self.request is None),
        }
        if not wanted[self.do]:
            needs = {
                "command": "run, and exactly one part if it is fed a document",
                "validate": "run and parts",
                "request": "request",
                "write": "exactly one part",
                "upload": "request, document and exactly one part",
                "offer": "parts, and either run or request",
                "gate": "ask, and at most one of run and request",
                "check": "either run or request",
            }
            raise ValueError(f"a step that does {self.do!r} needs {needs[self.do]}")
        if self.poll is not None and self.until is None:
            raise ValueError("poll needs until: when its answer is final")
        if self.job is not None and self.poll is None:
            raise ValueError("job is for the path of poll")
        return self


class UndoStep(StepModel):
    """Undoes a step if the restore is given up after that step began. It must be harmless if the
    step was not completed, and may run more than once.
    """

    undoes: str
    """The title of that step."""

    @model_validator(mode="after")
    def can_undo(self) -> UndoStep:
        if (
            self.do not in ("command", "request", "gate")
            or self.document is not None
            or not self.repeat
        ):
            raise ValueError(
                "what undoes a step is a command, a request or a gate, with no document, and may be"
                " repeated"
            )
        return self


class WayBeside(KindModel):
    """A further way to the same machine: an appliance that is worked with by HTTPS, and whose files
    are reached by SSH, or the other way round. Sources and steps take the way that they need.
    """

    reach: Literal["ssh", "https"]
    """The other one of the two."""
    login: Noun
    """A setting of the type `login`: who signs in there."""
    port: Noun
    """A setting of the type `port`: where it answers, at the machine's own address."""
    key: Noun | None = None
    """A setting of the type `text` with its fingerprint."""
    tells_key: Expression | None = None
    """Or: how the machine tells that fingerprint by the way that is verified already; draws it from
    an answer of `identity`."""

    @model_validator(mode="after")
    def key_known(self) -> WayBeside:
        if (self.key is None) == (self.tells_key is None):
            raise ValueError("give either key or tells_key")
        return self


class Entrance(KindModel):
    """Where a restore acts, if not where the system is read: steps connect there; reading and the
    proof do not. Where it is reached otherwise than the system, commands go to the one and requests
    to the other.
    """

    reach: Literal["ssh", "https"]
    """By SSH or HTTPS."""
    key_in: str | None = None
    """A census list of the target that holds its fingerprint: the entrance is closed until a step
    opens it, so it can be seen by nobody before."""
    shell: Literal["posix", "powershell"] = "posix"
    """What commands are quoted for."""
    port: Annotated[int, Field(ge=1, le=65535)]
    """Where it answers on the target by default."""
    until_rejoin: bool = False
    """Whether it is gone once the machine is reached again: steps then go where it is read."""


class Restore(KindModel):
    entrance: Entrance | None = None
    """Where its steps go, if not where the system is read."""
    prepare: list[StepModel] = []
    """Before anything is written."""
    write: list[StepModel] = []
    """Documents are put back."""
    finish: list[StepModel] = []
    """What was put back takes effect."""
    rejoin: list[StepModel] = []
    """The machine is reached again."""
    check: Annotated[list[StepModel], Field(min_length=1)]
    """It is seen whether all is well."""
    release: list[StepModel] = []
    """What was opened or stopped is released."""
    clear: list[StepModel] = []
    """When a safety copy is put back: what a restore added is taken away, before anything is
    written.
    """
    undo: list[UndoStep] = []
    """What undoes steps of the other phases, if the restore is given up."""

    def steps(self) -> list[tuple[Phase, StepModel]]:
        """In the order of execution."""
        return [(phase, step) for phase in FORWARD for step in getattr(self, phase)]

    @model_validator(mode="after")
    def clears_what_is_extra(self) -> Restore:
        if any(step.each is None or step.each.names != "extra" for step in self.clear):
            raise ValueError("a step of clear repeats over the extra names of a census list")
        return self


class TargetMust(KindModel):
    """What a census list of the target must hold before anything begins."""

    in_: Annotated[str, Field(alias="in")]
    """The census list."""
    holds: str
    """A name in it."""
    otherwise: str
    """What is wrong where it does not, and what to do, for the person who drafts."""
    parts: list[Noun] = []
    """Only where one of these parts is restored; empty: always."""


class Requires(KindModel):
    """Properties a target must match."""

    product: Literal["same", "any"] = "same"
    """Whether the target must be the same product."""
    version: VersionRule = "same"
    """How its version must compare."""
    version_form: str = r"\d+"
    """Every match is one number of the version."""
    platform: Literal["same", "any"] = "any"
    """Whether it must be the same platform."""
    names: list[str] = []
    """Census lists, such as add-ons or licences, of which a target must already have every name."""
    target: list[TargetMust] = []
    """What the target must say of itself, such as that it is new."""
    room: str = ""
    """A folder on the target that must have room for what is written; with a setting, like
    `{data}`.
    """
