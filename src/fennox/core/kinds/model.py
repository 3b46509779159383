"""The model of a kind file (TOML). ``docs/kinds.md`` explains it to those who write one."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fennox.core.kinds.actions import KindModel, Words
from fennox.core.kinds.literals import Phase
from fennox.core.kinds.new_machines import DrawnValue, NewMachine
from fennox.core.kinds.rules import (
    Around,
    Clock,
    Collection,
    Completeness,
    DefaultLogin,
    Doubt,
    Expected,
    Format,
    Guard,
    Harmless,
    Hidden,
    Identity,
    Noise,
    PathReference,
    PlaceRule,
    Program,
    Replicas,
)
from fennox.core.kinds.sources import Expression, Hand, PartModel, Setting, Source
from fennox.core.kinds.steps import Requires, Restore, StepModel, UndoStep, WayBeside
from fennox.core.names import Noun


class Kind(KindModel):
    """One kind of system."""

    name: Noun
    """A noun."""
    includes: list[Noun] = []
    """Kinds that this one builds on."""
    version: Annotated[int, Field(ge=1)]
    """Counted up with every change."""
    title: str
    """What such a system is."""
    about: str = ""
    """What is taken and what is not, for people."""
    reach: Literal["ssh", "https", "hand", "push", "service"]
    """By SSH, HTTPS, not at all (people hand in what they export, or it pushes by itself), or
    Fennox itself."""
    shell: Literal["posix", "powershell"] = "posix"
    """What its commands are quoted for: OpenSSH on Windows needs `powershell`."""
    port: Annotated[int, Field(ge=1, le=65535)]
    """The default port or path at which such systems answer."""
    beside: WayBeside | None = None
    """A further way to the same machine, for what the first one does not reach."""
    settings: dict[Noun, Setting] = {}
    """Values that differ between installations."""
    identity: Identity
    """What the machine says it is."""
    clock: Clock | None = None
    """How to ask the machine for its time."""
    recognised_by: Words = []
    """A command that succeeds where such a system is; without it, every machine whose identity can
    be read is one.
    """
    part: Annotated[list[PartModel], Field(min_length=1)]
    """Pieces that people choose between."""
    census: dict[str, list[Expression]] = {}
    """Named lists of names."""
    defaults: dict[str, list[str]] = {}
    """Names in census lists that every fresh installation has."""
    completeness: list[Completeness] = []
    """What a rebuild cannot do without."""
    doubts: list[Doubt] = []
    """What should not be there."""
    references: list[PathReference] = []
    """Paths that the configuration points to."""
    trusts: Expression | None = None
    """The fingerprint of the drop that the machine says it trusts; another one than the drop's own
    is a finding."""
    certificates: list[str] = []
    """Patterns of documents that hold certificates (PEM); when they end is watched."""
    relies_on: list[str] = []
    """Census lists whose names are hosts, URLs or host:port that such a system cannot work
    without.
    """
    answers_for: list[str] = []
    """Census lists of the domains whose names it resolves: a store that is reached by such a name
    depends on it.
    """
    replicas: Replicas | None = None
    """For a member of a replicated set."""
    around: list[Around] = []
    """What is done before a take and undone after it."""
    default_logins: list[DefaultLogin] = []
    """Logins that every fresh installation has."""
    programs: list[Program] = []
    """Programs whose version the target must match as well."""
    numbers: list[str] = []
    """Census lists of `name number`: a draft names those whose number on the target differs."""
    machine: list[str] = []
    """Census lists of what the machine itself is, such as disks: a draft names what the target has
    otherwise, a restore changes nothing of it, and it is shown beside the proof."""
    sizes: list[str] = []
    """Of these, lists of `name bytes`: a draft warns where the target has less in all."""
    place: list[PlaceRule] = []
    """Values that belong to a machine and its place."""
    guard: Guard = Guard()
    """When a new backup is doubted."""
    noise: list[Noise] = []
    """What means nothing in a comparison."""
    collections: list[Collection] = []
    """Lists whose order means nothing."""
    formats: list[Format] = []
    """How to read documents whose names do not show their format."""
    harmless: list[Harmless] = []
    """Messages that are expected."""
    hidden: list[Hidden] = []
    """Values that are never shown."""
    left_out: list[str] = []
    """What a backup does not hold, in words."""
    expected: Expected = Expected()
    """How the machine answers after a restore."""
    requires: Requires = Requires()
    """What a target must match."""
    restore: Restore | None = None
    """The steps that put a backup back."""
    new_machine: NewMachine | None = None
    """Of a host: how a machine comes to be on it."""
    deployment: list[DrawnValue] = []
    """What a new machine for such a system is made with, on whatever host."""
    rebuilt_by: str = ""
    """The command that puts it back, for a kind without steps."""

    def secret_settings(self) -> list[str]:
        """Settings that name a login, whose password is meant."""
        return [name for name, setting in self.settings.items() if setting.type == "secret"]

    def login_settings(self) -> list[str]:
        """Settings that name a login, also one that signs in."""
        return [name for name, setting in self.settings.items() if setting.names_login]

    @property
    def other_way(self) -> Literal["ssh", "https"]:
        """SSH or HTTPS, whichever is not the first way to the machine."""
        return "https" if self.reach == "ssh" else "ssh"

    def reaches_by(self, reach: Literal["ssh", "https"]) -> bool:
        return reach in (self.reach, self.beside.reach if self.beside is not None else None)

    def steps(self) -> list[tuple[Phase, StepModel]]:
        return self.restore.steps() if self.restore is not None else []

    def put_back(self) -> frozenset[str]:
        """Parts that a step restores, tells the target or asks a person to restore."""
        puts = ("command", "write", "upload", "offer", "gate", "request")
        told = [part.name for part in self.part if all(one.setting for one in part.source)]
        by_steps = (part for _, step in self.steps() if step.do in puts for part in step.parts)
        return frozenset([*by_steps, *told])

    def undo_steps(self) -> list[UndoStep]:
        return self.restore.undo if self.restore is not None else []

    def clear_steps(self) -> list[StepModel]:
        return self.restore.clear if self.restore is not None else []

    def all_steps(self) -> list[tuple[Phase, StepModel]]:
        rare: list[tuple[Phase, StepModel]] = [
            *(("clear", step) for step in self.clear_steps()),
            *(("undo", step) for step in self.undo_steps()),
        ]
        return [*self.steps(), *rare]

    def steps_that_feed(self) -> list[StepModel]:
        return [
            step for _, step in self.steps() if step.do == "command" and step.document is not None
        ]

    def hand_ins(self) -> list[tuple[PartModel, Source, Hand]]:
        """Documents that people hand in: the part, the source with the document's name, and the
        instructions.
        """
        return [
            (part, source, source.hand)
            for part in self.part
            for source in part.source
            if source.hand is not None
        ]

    @property
    def is_reached(self) -> bool:
        """Whether Fennox connects to such a system; else what it has comes by itself."""
        return self.reach not in ("hand", "push")

    def part_named(self, name: str) -> PartModel:
        return next(part for part in self.part if part.name == name)
