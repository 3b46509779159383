"""Parts of a kind file: settings, expressions over documents, and sources of documents."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from fennox.core.kinds.actions import Ask, KindModel, Words
from fennox.core.kinds.pushes import Push
from fennox.core.names import Noun
from fennox.core.regexes import compiled

Use = Literal["rebuild", "load"]
SettingType = Literal[
    "text", "path", "paths", "number", "port", "yes-no", "choice", "command", "secret", "login"
]


class Setting(KindModel):
    """A value that differs between installations; set per system.

    ``paths`` are absolute paths or patterns, one a line; a folder stands for all that is in it. A
    placeholder of this type in ``files`` or ``without`` stands for every one of them. ``command``:
    a line for the machine's shell, the only setting that may stand within a program (``sh -c
    "{restart}"``). ``secret``: the name of a login whose password is meant, such as an appliance's
    own passphrase; it may stand in the body of a request alone. ``login``: the name of a login that
    signs in by the way ``beside``.
    """

    title: str
    """What it is, for the person who sets it."""
    default: str
    """Its value where a system sets none."""
    type: SettingType = "text"
    """What values may be."""
    choices: list[str] = []
    """The values of a `choice`."""
    optional: bool = False
    """Of a secret: whether a system may have none; an empty text is sent then."""
    fits: list[str] = []
    """Of a secret: regular expressions, each of which something in the password must fit."""
    rule: str = ""
    """What `fits` asks for, in words: the value itself is not shown."""

    @model_validator(mode="after")
    def default_fits(self) -> Setting:
        if (self.type == "choice") != bool(self.choices):
            raise ValueError("choices belong to a setting of the type choice, and only to that")
        if self.names_login and self.default:
            raise ValueError("a secret or a login has no default")
        if self.optional and self.type != "secret":
            raise ValueError("optional is for secrets alone")
        if self.fits and self.type != "secret":
            raise ValueError("fits is for secrets alone")
        if bool(self.fits) != bool(self.rule):
            raise ValueError("fits and rule belong together: the rule says what fits asks for")
        if (why := self.unfit(self.default)) is not None:
            raise ValueError(f"the default {why}")
        return self

    @property
    def names_login(self) -> bool:
        """Whether its value is the name of a login, and nothing to write into a command."""
        return self.type in ("secret", "login")

    def unfit(self, value: str) -> str | None:
        """Why a value is invalid; None: it is valid."""
        match self.type:
            case "path" if not value.startswith("/"):
                return f"{value!r} is not a path: it must begin with /"
            case "paths" if wrong := [
                line for line in value.splitlines() if not line.startswith("/")
            ]:
                return f"{wrong[0]!r} is not a path: it must begin with /"
            case "number" if not value.isdecimal():
                return f"{value!r} is not a whole number"
            case "port" if not (value.isdecimal() and 0 < int(value) < 65536):
                return f"{value!r} is not a port: 1 to 65535"
            case "yes-no" if value not in ("yes", "no"):
                return f"{value!r} is neither yes nor no"
            case "choice" if value not in self.choices:
                return f"{value!r} is not one of {', '.join(self.choices)}"
        return None

    def keeps_rule(self, password: str) -> bool:
        """Whether the machine would accept it."""
        return all(compiled(pattern).fits(password) for pattern in self.fits)


_LANGUAGES = ("regex", "jsonpath", "xpath", "csv", "ini", "names")


class Expression(KindModel):
    """Reads values from captured documents, in exactly one language. ``in``: a document's path, or
    a pattern with ``*``. ``names``: yields the paths themselves, cut by a pattern with one group.
    ``read``: how each value is converted.
    """

    in_: Annotated[str, Field(alias="in")]
    """A document's path, or a pattern with `*`; in `identity`, the name of an answer."""
    regex: str | None = None
    """A regular expression with at most one group, as RE2 reads it."""
    jsonpath: str | None = None
    """A JSONPath (RFC 9535)."""
    xpath: str | None = None
    """An XPath 1.0."""
    csv: CsvColumn | None = None
    """A column of lines."""
    ini: IniKey | None = None
    """Sections, or a key of them."""
    names: str | None = None
    """A regular expression on the paths themselves."""
    without: str | None = None
    """A regular expression; values that it fits are passed over."""
    holding: list[str] = []
    """The expression is applied only to documents that contain one of these words. Where many
    documents fit, this saves much time.
    """
    read: Literal["text", "ssh-fingerprint", "certificate-fingerprint"] = "text"
    """What is made of each value."""

    @model_validator(mode="after")
    def one_language(self) -> Expression:
        given = [name for name in _LANGUAGES if getattr(self, name) is not None]
        if len(given) != 1:
            raise ValueError(
                f"give exactly one of {', '.join(_LANGUAGES)} (given: {given or 'none'})"
            )
        return self


class IniKey(KindModel):
    """Names of the sections of an INI document, or with ``key`` the values that this key has in
    them.

    ``section`` is a pattern with ``*``.
    """

    section: str = "*"
    """A pattern with `*`."""
    key: str | None = None
    """The key whose values are wanted; without it, the names of the sections."""


class CsvColumn(KindModel):
    """One column of lines with a separator, counted from 1; lines beginning with ``comment`` are
    skipped.
    """

    column: Annotated[int, Field(ge=1)]
    """Counted from 1."""
    beside: Annotated[int | None, Field(ge=1)] = None
    """A further column, whose value follows after a space."""
    separator: str = ","
    """Between columns."""
    comment: str = "#"
    """Lines beginning so are passed over."""


class Hand(KindModel):
    """A document a person exports in the system's own console and hands in."""

    how: str
    """What the person does there, in words."""
    every: Annotated[int, Field(gt=0, le=3660)] = 90
    """Days after which it is asked for again."""
    fits: str | None = None
    """A regular expression that something in it must fit, so that no other file is handed in by
    mistake.
    """


class Source(KindModel):
    """Where documents come from: ``files``, ``run``, ``ask``, ``hand``, ``push`` or ``setting``.

    ``each`` is a command that lists names, one a line; ``run`` is then repeated for each of them,
    with ``{each}`` in its words and in the document's name.
    """

    files: list[str] | None = None
    """Patterns of paths; `*` goes through folders, a setting of the type `paths` stands for
    several.
    """
    without: list[str] = []
    """Patterns that are left out."""
    named_by: Expression | None = None
    """Of these files only those are taken that this draws from documents read before: what a
    configuration points to, wherever it lies."""
    run: Words | None = None
    """A command, as a list of words; its output is the document."""
    each: Words | None = None
    """A command that lists names; `run` is repeated for each, as `{each}`."""
    ask: Ask | None = None
    """Requests of an HTTP interface."""
    hand: Hand | None = None
    """A person exports the document and hands it in."""
    push: Push | None = None
    """The system sends it to its drop."""
    setting: Noun | None = None
    """The value of a secret setting, kept because other documents cannot be opened without it. A
    restore uses the one that the backup holds.
    """
    made_from: list[str] = []
    """Paths of all that the output of `run` is made from; while nothing below them changes, it is
    not asked for.
    """
    codes: list[int] = [0]
    """Exit codes of `run` and `each` that mean success."""
    document: str | None = None
    """The name of the document. Pushed files have the names under which they arrive, unless
    `{name}` in it stands for these."""
    secret: bool = False
    """Whether the document is secret as a whole."""
    settled: Annotated[int, Field(ge=0, le=86400)] = 0
    """Seconds since which a file must not have been written; what the machine still writes waits
    for the next take.
    """
    ceiling: Annotated[int, Field(gt=0)] = 4 * 1024**3
    """Bytes that one document may have."""

    @model_validator(mode="after")
    def one_source(self) -> Source:
        given = [
            name
            for name in ("files", "run", "ask", "hand", "push", "setting")
            if getattr(self, name) is not None
        ]
        if len(given) != 1:
            raise ValueError(
                "give exactly one of files, run, ask, hand, push or setting (given:"
                f" {given or 'none'})"
            )
        if self.push is not None:
            if "{name}" not in (self.document or "{name}"):
                raise ValueError("the document of what is pushed must have {name}, or be left out")
        elif (self.files is None) == (self.document is None):
            raise ValueError("run, ask, hand and setting name their document; files themselves")
        if self.setting is not None and not self.secret:
            raise ValueError("what a secret setting holds is secret: secret = true")
        if (self.settled or self.named_by is not None) and self.files is None:
            raise ValueError("settled and named_by are for files alone")
        if self.each is not None and (self.run is None or "{each}" not in (self.document or "")):
            raise ValueError("each repeats run, and {each} must be in the name of the document")
        if (
            self.ask is not None
            and self.ask.each is not None
            and "{each}" not in (self.document or "")
        ):
            raise ValueError("with each, {each} must be in the name of the document")
        if self.made_from and (self.run is None or self.each is not None):
            raise ValueError("made_from is for run alone, without each")
        for pattern in [*(self.files or []), *self.without, *self.made_from]:
            if not pattern.startswith(("/", "{")):
                raise ValueError(f"{pattern!r} must begin with / or with a setting")
        return self


class PartModel(KindModel):
    """A named piece of a system that people can choose."""

    name: Noun
    """A noun by which people choose it."""
    title: str
    """What it is, in words."""
    essential: bool = False
    """Whether a rebuild cannot do without it."""
    default: bool = True
    """Whether it is taken unless somebody chooses."""
    uses: list[Use] = ["rebuild", "load"]
    """Whether it serves to rebuild a machine, to load into a running one, or both; empty: to be
    read alone.
    """
    one_instant: bool = False
    """Whether the program itself gives each document as it stood at one instant."""
    needs: list[Noun] = []
    """Parts that are taken along."""
    overwrites: str = ""
    """What a restore overwrites, in words."""
    source: Annotated[list[Source], Field(min_length=1)]
    """Where its documents come from."""
    secrets: list[str] = []
    """Patterns of documents whose content is secret."""

    @model_validator(mode="after")
    def what_comes_is_alone(self) -> PartModel:
        ways = {_way(source) for source in self.source}
        if len(ways) > 1:
            raise ValueError(
                "what is handed in, and what is pushed by itself, needs a part of its own, apart"
                " from what is read from the machine"
            )
        if ways == {"pushed"} and len(self.source) > 1:
            raise ValueError("a part that is pushed has one source")
        return self

    @property
    def way(self) -> Literal["read", "pushed when asked", "pushed by itself", "handed in"]:
        """How its documents come to Fennox."""
        match _way(self.source[0]):
            case "handed in":
                return "handed in"
            case "pushed":
                return "pushed by itself"
            case "read":
                return "pushed when asked" if self.asks_for_push else "read"

    @property
    def handed_in(self) -> bool:
        return _way(self.source[0]) == "handed in"

    @property
    def pushed(self) -> Push | None:
        """How it is pushed by itself, if it is."""
        return self.source[0].push if _way(self.source[0]) == "pushed" else None

    @property
    def asks_for_push(self) -> bool:
        """Whether reading it sets off a push."""
        return any(source.push is not None and source.push.start for source in self.source)

    def needs_way(self, reach: Literal["ssh", "https"]) -> bool:
        """Whether it is read by commands and files (SSH), or by requests (HTTPS)."""
        return any(
            (source.files is not None or source.run is not None)
            if reach == "ssh"
            else source.ask is not None
            for source in self.source
        )

    @property
    def comes_by_itself(self) -> bool:
        """Handed in or pushed: no take reads it from the machine, and it has backups of its own."""
        return _way(self.source[0]) != "read"


def _way(source: Source) -> Literal["handed in", "pushed", "read"]:
    if source.hand is not None:
        return "handed in"
    if source.push is not None and source.push.start is None:
        return "pushed"
    return "read"


Expression.model_rebuild()
