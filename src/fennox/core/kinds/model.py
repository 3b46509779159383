"""The model of a kind file (TOML). ``docs/kinds.md`` explains it to those who write one."""

from __future__ import annotations

from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field, model_validator

from fennox.core.names import Noun

Use = Literal["rebuild", "load"]
Words = list[str]
"""A command as a list of words; placeholders like ``{setting}`` are filled in, and every word is quoted for a shell."""


class KindModel(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Setting(KindModel):
    """A value that differs between installations; set per system."""

    title: str
    default: str


class Expression(KindModel):
    """Draws values from captured documents. Exactly one language is given.

    ``in`` is a document's path, or a pattern with ``*``. ``names`` gives the paths themselves, cut by a pattern with
    one group. ``read`` says what is made of each value.
    """

    in_: Annotated[str, Field(alias="in")]
    regex: str | None = None
    jsonpath: str | None = None
    xpath: str | None = None
    csv: CsvColumn | None = None
    names: str | None = None
    read: Literal["text", "ssh-fingerprint", "certificate-fingerprint"] = "text"

    @model_validator(mode="after")
    def one_language(self) -> Expression:
        given = [name for name in ("regex", "jsonpath", "xpath", "csv", "names") if getattr(self, name) is not None]
        if len(given) != 1:
            raise ValueError(f"give exactly one of regex, jsonpath, xpath, csv or names (given: {given or 'none'})")
        return self


class CsvColumn(KindModel):
    """One column of lines with a separator, counted from 1; lines beginning with ``comment`` are passed over."""

    column: Annotated[int, Field(ge=1)]
    separator: str = ","
    comment: str = "#"


class Request(KindModel):
    """A request of an HTTP interface."""

    method: Literal["GET", "POST", "PUT", "DELETE"] = "GET"
    path: str
    json_body: Annotated[dict[str, Any] | None, Field(alias="json")] = None


class Until(KindModel):
    """When a polled answer is final: a JSONPath and the value it must have, or one that means failure."""

    jsonpath: str
    equals: str
    fails: str | None = None
    limit: Annotated[int, Field(gt=0, le=86400)] = 600  # seconds


class Ask(KindModel):
    """A document from an HTTP interface: one request, or start → poll until → fetch.

    ``{job}`` in the later paths is what ``job`` draws from the answer to ``start``.
    """

    start: Request | None = None
    job: str | None = None  # JSONPath
    poll: Request | None = None
    until: Until | None = None
    fetch: Request

    @model_validator(mode="after")
    def whole(self) -> Ask:
        if (self.poll is None) != (self.until is None):
            raise ValueError("poll and until belong together")
        return self


class Source(KindModel):
    """Where documents come from: ``files``, ``run`` or ``ask``."""

    files: list[str] | None = None
    without: list[str] = []
    run: Words | None = None
    ask: Ask | None = None
    codes: list[int] = [0]  # exit codes of ``run`` that mean success
    document: str | None = None
    secret: bool = False
    ceiling: Annotated[int, Field(gt=0)] = 4 * 1024**3  # bytes a document may have

    @model_validator(mode="after")
    def one_source(self) -> Source:
        given = [name for name in ("files", "run", "ask") if getattr(self, name) is not None]
        if len(given) != 1:
            raise ValueError(f"give exactly one of files, run or ask (given: {given or 'none'})")
        if (self.files is None) == (self.document is None):
            raise ValueError("run and ask name their document; files name themselves")
        for pattern in [*(self.files or []), *self.without]:
            if not pattern.startswith(("/", "{")):
                raise ValueError(f"{pattern!r} must begin with / or with a setting")
        return self


class PartModel(KindModel):
    """A named piece that people choose."""

    name: Noun
    title: str
    essential: bool = False
    default: bool = True
    uses: list[Use] = ["rebuild", "load"]
    needs: list[Noun] = []
    overwrites: str = ""
    source: Annotated[list[Source], Field(min_length=1)]
    secrets: list[str] = []


class Identity(KindModel):
    """What the machine says it is: commands or requests by name, and expressions over their answers."""

    run: dict[str, Words] = {}
    ask: dict[str, Request] = {}
    id: Expression
    product: Expression
    version: Expression
    build: Expression | None = None
    platform: Expression | None = None
    name: Expression | None = None

    @model_validator(mode="after")
    def known_answers(self) -> Identity:
        for field in ("id", "product", "version", "build", "platform", "name"):
            expression: Expression | None = getattr(self, field)
            if expression is not None and expression.in_ not in {*self.run, *self.ask}:
                raise ValueError(f"{field} looks in {expression.in_!r}, which identity does not read")
        return self


class Completeness(KindModel):
    """What a rebuild cannot do without. The expression must give at least one value."""

    code: Noun
    part: Noun
    needs: Expression
    lost: str
    remedy: str


class Reference(KindModel):
    """Paths that the configuration points to; one that no part holds is a finding."""

    title: str
    paths: Expression


class Requires(KindModel):
    """What a target must match."""

    product: Literal["same", "any"] = "same"
    version: Literal["same", "same-major", "not-older", "any"] = "same"
    version_form: str = r"\d+"  # every match is one number of the version
    platform: Literal["same", "any"] = "any"


class Each(KindModel):
    """Repeat a step for names of a census list: all of the backup's, those missing on the target, or its extra ones."""

    names: Literal["all", "missing", "extra"]
    list: str


class StepModel(KindModel):
    """One step of a restore. ``repeat`` says that doing it twice does no harm, so it may be resumed."""

    title: str
    do: Literal["command", "request", "write", "upload", "gate", "rejoin", "check"]
    parts: list[Noun] = []
    repeat: bool = True
    undone: bool = True
    restarts: bool = False
    limit: Annotated[int, Field(gt=0, le=86400)] = 120  # seconds
    run: Words | None = None
    request: Request | None = None
    until: Until | None = None
    each: Each | None = None
    document: str | None = None
    ask: str | None = None
    owners: Literal["names", "numbers"] = "names"
    expect: str | None = None  # regular expression on the output of a check
    address: Literal["target", "backup"] = "target"
    account: Literal["target", "backup"] = "target"
    key: Literal["target", "backup"] = "target"

    @model_validator(mode="after")
    def has_what_it_does(self) -> StepModel:
        wanted = {
            "command": self.run is not None,
            "request": self.request is not None,
            "write": len(self.parts) == 1,
            "upload": self.request is not None and self.document is not None and len(self.parts) == 1,
            "gate": self.ask is not None,
            "rejoin": True,
            "check": (self.run is None) != (self.request is None),
        }
        if not wanted[self.do]:
            needs = {
                "command": "run",
                "request": "request",
                "write": "exactly one part",
                "upload": "request, document and exactly one part",
                "gate": "ask",
                "check": "either run or request",
            }
            raise ValueError(f"a step that does {self.do!r} needs {needs[self.do]}")
        return self


Phase = Literal["prepare", "write", "finish", "rejoin", "check", "release"]
PHASES: tuple[Phase, ...] = get_args(Phase)


class Restore(KindModel):
    prepare: list[StepModel] = []
    write: list[StepModel] = []
    finish: list[StepModel] = []
    rejoin: list[StepModel] = []
    check: Annotated[list[StepModel], Field(min_length=1)]
    release: list[StepModel] = []

    def steps(self) -> list[tuple[Phase, StepModel]]:
        return [(phase, step) for phase in PHASES for step in getattr(self, phase)]


class Expected(KindModel):
    """How the captured documents tell where and by which key the machine will answer after a restore."""

    address: Expression | None = None
    account: Expression | None = None
    key: Expression | None = None


class Kind(KindModel):
    """One kind of system."""

    name: Noun
    version: Annotated[int, Field(ge=1)]
    title: str
    about: str = ""
    reach: Literal["ssh", "https", "service"]
    port: Annotated[int, Field(ge=1, le=65535)]
    settings: dict[Noun, Setting] = {}
    identity: Identity
    part: Annotated[list[PartModel], Field(min_length=1)]
    census: dict[str, list[Expression]] = {}
    defaults: dict[str, list[str]] = {}
    completeness: list[Completeness] = []
    references: list[Reference] = []
    left_out: list[str] = []
    expected: Expected = Expected()
    requires: Requires = Requires()
    restore: Restore | None = None
    rebuilt_by: str = ""  # the command that puts it back, for a kind without steps of its own

    @model_validator(mode="after")
    def consistent(self) -> Kind:
        if (self.restore is None) != bool(self.rebuilt_by):
            raise ValueError("give either restore or rebuilt_by")
        names = [part.name for part in self.part]
        if len(set(names)) != len(names):
            raise ValueError("two parts have the same name")
        for part in self.part:
            self._known(part.needs, names, f"part {part.name}")
        for _, step in self.steps():
            self._known(step.parts, names, f"step {step.title!r}")
            if step.each is not None and step.each.list not in self.census:
                raise ValueError(f"step {step.title!r} repeats over the census list {step.each.list!r}, not drawn here")
        for item in self.completeness:
            self._known([item.part], names, f"completeness {item.code}")
        for listed in self.defaults:
            if listed not in self.census:
                raise ValueError(f"defaults names the census list {listed!r}, which is not drawn here")
        return self

    @staticmethod
    def _known(wanted: list[str], names: list[str], where: str) -> None:
        for name in wanted:
            if name not in names:
                raise ValueError(f"{where} names the part {name!r}; there are {', '.join(names)}")

    def steps(self) -> list[tuple[Phase, StepModel]]:
        return self.restore.steps() if self.restore is not None else []

    def part_named(self, name: str) -> PartModel:
        return next(part for part in self.part if part.name == name)


Expression.model_rebuild()
