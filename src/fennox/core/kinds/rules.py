"""Tables of a kind file, one model each."""

from __future__ import annotations

import builtins
from typing import Annotated, Literal

from pydantic import Field, model_validator

from fennox.core.kinds.actions import Action, KindModel, Request, Words
from fennox.core.kinds.literals import PlaceOf, Shape, VersionRule
from fennox.core.kinds.sources import Expression, IniKey
from fennox.core.names import Noun


class Identity(KindModel):
    """The machine's identity: commands or requests by name, and expressions over their answers."""

    run: dict[str, Words] = {}
    """Commands by name."""
    ask: dict[str, Request] = {}
    """Requests by name."""
    made_from: list[str] = []
    """Paths of all that `run` answers from; while nothing below them changes, it is not asked."""
    id: Expression
    """What identifies this machine among all others."""
    product: Expression
    """What it runs."""
    version: Expression
    """Of the product."""
    build: Expression | None = None
    """Of the product."""
    platform: Expression | None = None
    """What it runs on."""
    name: Expression | None = None
    """By which name it goes."""

    @model_validator(mode="after")
    def known_answers(self) -> Identity:
        if self.made_from and not self.run:
            raise ValueError("made_from is for run alone")
        if wrong := [path for path in self.made_from if not path.startswith("/")]:
            raise ValueError(f"{wrong[0]!r} must begin with /")
        for field in ("id", "product", "version", "build", "platform", "name"):
            expression: Expression | None = getattr(self, field)
            asked = {*self.run, *self.ask}
            if expression is not None and asked and expression.in_ not in asked:
                raise ValueError(
                    f"{field} looks in {expression.in_!r}, which identity does not read"
                )
        return self


class Clock(KindModel):
    """How to read a machine's time. A clock that is far off becomes a concern."""

    run: Words | None = None
    """A command."""
    ask: Request | None = None
    """A request."""
    value: Expression
    """Draws seconds since 1970, or an ISO 8601 time, from the answer, which it calls by any
    name.
    """

    @model_validator(mode="after")
    def one_way(self) -> Clock:
        if (self.run is None) == (self.ask is None):
            raise ValueError("give either run or ask")
        return self


class Completeness(KindModel):
    """Essential content for a rebuild. The expression must yield at least one value."""

    code: Noun
    """A noun for the finding."""
    part: Noun
    """It counts where this part is taken."""
    needs: Expression
    """What must give at least one value."""
    lost: str
    """What is lost without it, in words."""
    remedy: str
    """What to do."""


class Doubt(KindModel):
    """Unwanted content: every value the expression yields becomes a finding."""

    code: Noun
    """A noun for the finding."""
    part: Noun
    """It counts where this part is taken."""
    finds: Expression
    """What should give no value."""
    means: str
    """What the values mean, in words; they follow it, after a colon."""
    remedy: str
    """What to do."""


class PathReference(KindModel):
    """Paths the configuration refers to; a path in no part is a finding."""

    title: str
    """What points there."""
    paths: Expression
    """The paths."""


class Guard(KindModel):
    """When a new backup is doubtful, compared with the last good ones."""

    share: Annotated[float, Field(gt=0, lt=1)] = 0.5
    """A list that lost more than this share of its names is doubted."""
    least: Annotated[int, Field(ge=1)] = 5
    """But only if it lost at least so many."""
    required: list[str] = []
    """Census lists that must never be empty."""
    size: Annotated[float, Field(ge=0, lt=1)] = 0.25
    """A backup smaller than this share of the last good ones is doubted; 0 switches this off."""


class Around(KindModel):
    """An action before a take, undone after it: stopping a program, setting a lock, opening an
    entrance. It is undone however the take ends. If the worker dies, the next run undoes it; until
    then it is a concern.
    """

    title: str
    """What it does, in words."""
    before: Action
    """Done before anything is read."""
    after: Action
    """Undoes it; it must do no harm where nothing was done."""
    parts: list[Noun] = []
    """Only where one of these parts is taken; empty: at every take."""
    limit: Annotated[int, Field(gt=0, le=3600)] = 120
    """Seconds that each of both may take."""


class DefaultLogin(KindModel):
    """A login every fresh installation has. It is tried when a system is enrolled."""

    account: str
    """The account."""
    password: str
    """Its password on a fresh installation; it is no secret."""


class Replicas(KindModel):
    """For a member of a replicated set: the other members, and their effect on a restored copy."""

    list: str
    """The census list whose names are the hosts of the other members."""
    means: str
    """What the others do to a restored copy, in words."""
    to_win: str
    """What a person does so that the restored copy wins."""
    to_yield: str
    """What a person does so that the others win."""
    numbers: str | None = None
    """A census list of `subtree number`: how far this copy is. With it, a draft reads the other
    members, shows both sides and asks whose copy wins; steps with `when` are for one answer."""
    lists: builtins.list[str] = []
    """Census lists that the winner decides."""
    equal: builtins.list[str] = []
    """Census lists that replication keeps equal on all members; left out: `lists`. What is not also
    in `lists` is no part of the proof."""
    scopes: str | None = None
    """A census list of subtrees that may win by themselves; a name of `lists` may as well."""
    scope_is: Literal["before", "behind"] = "before"
    """Whether the subtree stands before an object's name, as in `crew/anna`, or behind it, as in
    `uid=anna,ou=crew`."""
    margin: Annotated[int | None, Field(ge=1)] = None
    """How much further than the furthest member `{raise}` goes, for what they do meanwhile; left
    out: a restored copy that wins is numbered anew."""


class Program(KindModel):
    """A program whose version the target must match as well; the version is the only name in a
    census list.
    """

    title: str
    """The name of the program."""
    list: str
    """The census list whose one name is its version."""
    version: VersionRule
    """How the target's version must compare."""


class Noise(KindModel):
    """Meaningless differences between takes, ignored by comparisons. ``lines``: lines that match
    this pattern. ``jsonpath``: these values of a structured document. ``whole``: the document's
    whole content, so that only its existence counts; with ``names`` its name means nothing either,
    as long as there is another that the pattern fits.
    """

    title: str
    """What it is."""
    in_: Annotated[str, Field(alias="in")]
    """A path, or a pattern with `*`."""
    lines: str | None = None
    """A regular expression for lines."""
    jsonpath: str | None = None
    """A JSONPath to values."""
    whole: bool = False
    """The whole content."""
    names: bool = False
    """With `whole`: also the name."""

    @model_validator(mode="after")
    def one_way(self) -> Noise:
        if self.names and not self.whole:
            raise ValueError("names goes with whole")
        if sum((self.lines is not None, self.jsonpath is not None, self.whole)) != 1:
            raise ValueError("give exactly one of lines, jsonpath or whole")
        return self


class Collection(KindModel):
    """A list whose order means nothing. Its members are matched by ``key``, or by their whole value
    without one.

    ``path`` are the names that lead to it, with ``*`` for any; in a CSV document it is left out,
    and ``key`` is the title of a column. Without ``path`` in other text, the order of lines means
    nothing.
    """

    in_: Annotated[str, Field(alias="in")]
    """A path, or a pattern with `*`."""
    path: str = ""
    """The names that lead to the list, with `/` between and `*` for any."""
    key: str | None = None
    """The field that identifies a member."""


class Format(KindModel):
    """How to parse documents in a comparison whose names do not show their format. ``heading``: a
    pattern for heading lines of a text; its group is the title.
    """

    in_: Annotated[str, Field(alias="in")]
    """A path, or a pattern with `*`."""
    is_: Annotated[Shape, Field(alias="is")]
    """What it is read as."""
    heading: str | None = None
    """A regular expression for lines above the lines they name; its group is the title."""


class Harmless(KindModel):
    """Expected, harmless messages of commands and of tar; reported separately from all others."""

    title: str
    """Why they mean nothing."""
    lines: str
    """A regular expression for a line of what a command says beside its output."""


class Hidden(KindModel):
    """Values inside documents that are never shown; a comparison only reports that they changed.
    ``alone``: nothing else in a secret document is secret, so the rest may be shown.
    """

    in_: Annotated[str, Field(alias="in")]
    """A path, or a pattern with `*`."""
    lines: str | None = None
    """A regular expression; its group is hidden, or all of the match."""
    jsonpath: str | None = None
    """A JSONPath to values."""
    alone: bool = False
    """Whether nothing else in the secret document is secret."""

    @model_validator(mode="after")
    def one_way(self) -> Hidden:
        if (self.lines is None) == (self.jsonpath is None):
            raise ValueError("give either lines or jsonpath")
        return self


class Expected(KindModel):
    """Reads from captured documents at which address, and with which key, the machine will answer
    after a restore.
    """

    address: Expression | None = None
    """Where it answers."""
    account: Expression | None = None
    """By which login."""
    key: Expression | None = None
    """By which host key or certificate."""


class PlaceRows(KindModel):
    """Lines of columns, such as fstab(5). Lines beginning with ``#`` are skipped."""

    key: Annotated[int, Field(ge=1)]
    """The column that identifies a row, counted from 1."""
    values: Annotated[list[Annotated[int, Field(ge=1)]], Field(min_length=1)]
    """The columns that belong to the place."""
    only: str
    """A regular expression; only rows whose first value it matches belong to the place."""


PLACE_LANGUAGES = ("regex", "jsonpath", "xpath", "ini", "ldif", "rows", "whole")


class PlaceRule(KindModel):
    """A value that belongs to a machine, not to the system. Exactly one language is given."""

    name: Noun
    """A noun by which people choose it."""
    title: str
    """What it is."""
    of: PlaceOf
    """What it belongs to. This and the purpose of a restore decide whose value is written."""
    in_: Annotated[list[str], Field(alias="in", min_length=1)]
    """Paths of documents, or patterns with `*`."""
    regex: str | None = None
    """A regular expression; its group is the value."""
    jsonpath: str | None = None
    """A JSONPath (RFC 9535) to values of a JSON document."""
    xpath: str | None = None
    """An XPath 1.0 to elements or attributes."""
    ini: IniKey | None = None
    """A key of an INI document."""
    ldif: str | None = None
    """The name of an attribute (RFC 2849)."""
    rows: PlaceRows | None = None
    """Columns of rows. With the target's choice, rows it lacks are left out and its own added."""
    whole: bool = False
    """Whole documents: with the target's choice none is written, and the target's stay."""
    shown: list[str] = []
    """Regular expressions for what of whole documents is shown."""
    seeded: bool = False
    """Whether a seed's new name is the value."""
    real: list[Expression] = []
    """Values that exist on a machine. The backup's are kept in a repair while they exist."""

    @model_validator(mode="after")
    def one_language(self) -> PlaceRule:
        given = [name for name in PLACE_LANGUAGES if getattr(self, name) not in (None, False)]
        if len(given) != 1:
            raise ValueError(f"give exactly one of {', '.join(PLACE_LANGUAGES)}")
        if self.ini is not None and self.ini.key is None:
            raise ValueError("ini needs a key")
        return self
