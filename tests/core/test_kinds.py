"""Kind files: mistakes are told with their place, expressions are safe on hostile documents."""

from __future__ import annotations

import re
from importlib.resources import files

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import BadInput, NotFound
from fennox.core.evidence.usefulness import worth
from fennox.core.format.manifest import Finding
from fennox.core.kind_files.loading import load, mistakes, whole
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import Evidence
from fennox.core.kinds.sources import Expression, Setting
from fennox.core.names import device_path, noun, printable

SHIPPED = sorted(
    entry.name
    for entry in files("fennox").joinpath("kinds").iterdir()
    if entry.name.endswith(".toml")
)


def text_of(name: str) -> str:
    return files("fennox").joinpath(f"kinds/{name}").read_text()


def shipped(name: str) -> str:
    if f"{name}.toml" not in SHIPPED:
        raise NotFound(f"There is no kind {name}.", "Choose another.")
    return text_of(f"{name}.toml")


@pytest.mark.parametrize("name", SHIPPED)
def test_every_kind_that_ships_has_no_mistake_and_its_file_is_named_for_it(name: str) -> None:
    assert load(text_of(name), shipped).name == name.removesuffix(".toml")


@pytest.mark.parametrize(
    ("old", "new", "line_holds", "said"),
    [
        ('reach = "ssh"', 'reach = "telnet"', "reach", "ssh"),
        ('name = "settings"\n', 'name = "Settings!"\n', "name =", "cannot be a name"),
        ("csv = { column = 1", "csv = { column = 0", "accounts", "greater than or equal to 1"),
        ('parts = ["ssh-identity"]', 'parts = ["holidays"]', None, "holidays"),
        ("regex = '(?s)^(.+)$'", "regex = '(?s)^((.+))$'", "key =", "more than one group"),
        ("expect = '\\S+'", "expect = '(\\S+'", "expect", "does not compile"),
        ("[A-Za-z0-9._-]+)'", "[A-Za---z0-9._-]+)'", "product =", "invalid character class range"),
        (
            'version = "same-major"',
            'version = "same-major"\nversion_form = "["',
            "version_form",
            "does not compile",
        ),
        ('list = "packages"', 'list = "parcels"', None, "parcels"),
        ("regex = '(?m)^(\\S+)'", "regex = '(?m)^((\\S+)'", None, "does not compile"),
    ],
)
def test_a_mistake_is_told_with_its_line_and_what_is_wrong(
    old: str, new: str, line_holds: str | None, said: str
) -> None:
    text = text_of("linux-server.toml")
    assert old in text
    wrong = text.replace(old, new, 1)
    kind, found = mistakes(wrong)
    assert kind is None
    assert any(said in mistake.text for mistake in found), found
    if line_holds is not None:
        assert line_holds in wrong.split("\n")[found[0].line - 1]


def test_a_kind_builds_on_another_and_takes_its_own_files_out_of_it() -> None:
    kind = load(shipped("postgresql-server"), shipped)
    base = load(shipped("linux-server"))
    assert [part.name for part in kind.part][: len(base.part)] == [part.name for part in base.part]
    assert "/etc/postgresql/*" in kind.part_named("settings").source[0].without
    assert (kind.reach, kind.port, kind.identity) == (base.reach, base.port, base.identity)
    titles = [step.title for _, step in kind.steps()]
    assert titles.index("Put back the configuration tree") < titles.index(
        "Put back the files of the application"
    )
    assert set(base.census) < set(kind.census)
    carried = whole(shipped("postgresql-server"), shipped)
    assert load(carried) == kind.model_copy(update={"includes": []}), "a backup's kind stands alone"
    assert whole(shipped("linux-server"), shipped) == shipped("linux-server")


@pytest.mark.parametrize(
    ("old", "new", "where", "said"),
    [
        (
            '"PGDATABASE={each}", "pg_dump"',
            '"PGDATABASE={eech}", "pg_dump"',
            "part[3].source[1]",
            "Did you mean {each}?",
        ),
        (
            "[settings.cluster]",
            "[settings.cluster]\ntipe = 'path'",
            "settings.cluster.tipe",
            "Did you mean type?",
        ),
        ('includes = ["linux-server"]', 'includes = ["lanux-server"]', "includes", "lanux-server"),
        ('includes = ["linux-server"]', 'includes = "linux-server"', "includes", "list of names"),
        (
            'includes = ["linux-server"]',
            'includes = ["postgresql-server"]',
            "includes",
            "builds on itself",
        ),
        ('title = "Files of the application"', "", "part[4].title", "Add title"),
        ("lines = '^\\\\(?:un)", "lines = '^\\\\(:un", "noise[1].lines", "does not compile"),
    ],
)
def test_a_mistake_in_a_kind_that_builds_on_another_is_told_where_it_stands(
    old: str, new: str, where: str, said: str
) -> None:
    text = shipped("postgresql-server")
    assert old in text
    _, found = mistakes(text.replace(old, new, 1), shipped)
    wanted_lines = text.replace(old, new, 1).split("\n")
    assert [item for item in found if item.where == where and said in item.text + item.remedy], (
        found
    )
    assert all(1 <= item.line <= len(wanted_lines) and item.column >= 1 for item in found)


@pytest.mark.parametrize(
    ("type_", "fits", "unfit"),
    [
        ("path", "/srv", "srv"),
        ("paths", "/a\n/b/*", "/a\nb"),
        ("number", "12", "a dozen"),
        ("port", "8443", "70000"),
        ("yes-no", "yes", "maybe"),
    ],
)
def test_a_setting_refuses_what_does_not_fit_its_type(type_: str, fits: str, unfit: str) -> None:
    setting = Setting.model_validate({"title": "x", "default": fits, "type": type_})
    assert setting.unfit(fits) is None
    assert repr(unfit.splitlines()[-1]) in str(setting.unfit(unfit))


def test_text_that_is_no_toml_is_told_with_its_line() -> None:
    _, [mistake] = mistakes('name = "x"\nversion = = 1\n')
    assert mistake.line == 2
    with pytest.raises(BadInput, match="line 2"):
        load('name = "x"\nversion = = 1\n')


def draw(content: bytes, **language: object) -> tuple[list[str], list[str]]:
    evidence = Evidence(contents={"doc": content}, paths={"doc"})
    expression = Expression.model_validate({"in": "doc", **language})
    return expressions.values(expression, evidence), [str(one) for one in evidence.complaints]


def test_each_language_draws_names() -> None:
    assert draw(b'{"a": [{"n": "x"}, {"n": 3}]}', jsonpath="$.a[*].n")[0] == ["x", "3"]
    assert draw(b"<r><u n='a'/><u n='b'>t</u></r>", xpath="//u/@n")[0] == ["a", "b"]
    assert draw(b"<r><u>one</u></r>", xpath="//u")[0] == ["one"]
    assert draw(b"root:x:0\n# no:\nship:x:1\n", csv={"column": 1, "separator": ":"})[0] == [
        "root",
        "ship",
    ]
    assert draw(b"a=1\nb=2\n", regex=r"(?m)^(\w)=")[0] == ["a", "b"]
    assert draw(b"", names="^(d.)")[0] == ["do"]


@pytest.mark.parametrize(
    ("content", "language"),
    [
        (b"{" * 200_000, {"jsonpath": "$..a"}),
        (b"[" * 200_000 + b"]" * 200_000, {"jsonpath": "$.a"}),
        (b"\xff\xfe not json", {"jsonpath": "$.a"}),
        (
            b"<!DOCTYPE x [<!ENTITY a 'aaaa'><!ENTITY b '&a;&a;&a;'>]><x>&b;" + b"<",
            {"xpath": "//x"},
        ),
        (b"not xml", {"xpath": "//x"}),
    ],
)
def test_a_hostile_document_gives_no_value_and_one_complaint(
    content: bytes, language: dict[str, str]
) -> None:
    values, complaints = draw(content, **language)
    assert (values, len(complaints)) == ([], 1)


@given(
    st.lists(st.text("includé-/ A7", max_size=4), max_size=3), st.text("includé-/ A7", max_size=40)
)
def test_a_document_is_looked_at_where_it_holds_a_word(words: list[str], content: str) -> None:
    looking = Expression.model_validate({"in": "/etc/*.conf", "regex": "x", "holding": words})
    assert expressions.holds(looking, content.encode()) == (
        not words or any(word in content for word in words)
    )


def test_entities_of_a_far_side_are_not_expanded_and_no_file_is_read() -> None:
    bomb = b"<!DOCTYPE x [<!ENTITY e SYSTEM 'file:///etc/passwd'>]><x><u>&e;</u></x>"
    assert "root" not in "".join(draw(bomb, xpath="//u")[0])


@given(
    st.text(),
    st.dictionaries(
        st.from_regex(r"[a-z][a-z-]*", fullmatch=True), st.text(max_size=20), max_size=3
    ),
)
def test_placeholders_are_filled_once_and_never_interpreted_again(
    word: str, values: dict[str, str]
) -> None:
    filled = expressions.filled("{a}" + word, {**values, "a": "{b}", "b": "never"})
    assert filled.startswith("{b}")


@given(st.binary(max_size=200))
def test_a_device_path_is_refused_or_harmless(raw: bytes) -> None:
    try:
        path = device_path(raw)
    except BadInput:
        return
    assert path.startswith("/")
    assert ".." not in path.split("/")
    assert "\0" not in path


@given(st.binary(max_size=100))
def test_what_is_shown_on_a_terminal_has_no_control_characters(raw: bytes) -> None:
    assert printable(raw).isprintable()


@pytest.mark.parametrize("name", ["", "Web", "a/b", "..", "-a", "a" * 49, "a b", "ä"])
def test_a_name_that_is_no_noun_is_refused(name: str) -> None:
    with pytest.raises(BadInput):
        noun(name)


def _worth(*parts: str, findings: list[Finding] | None = None) -> str:
    kind = load(text_of("postgresql-server.toml"), shipped)
    return "\n".join(
        worth(
            kind,
            parts or [part.name for part in kind.part],
            findings or [],
            ["the write-ahead log"],
        )
    )


def test_a_backup_says_what_it_is_good_for() -> None:
    whole = _worth()
    assert "It can rebuild the system on a fresh machine" in whole
    assert re.search("one instant, exported by the program: .*Databases", whole)
    assert re.search("not as of one instant: Configuration tree", whole)
    assert "protected in another way: the write-ahead log" in whole


def test_a_backup_says_what_it_is_not_good_for() -> None:
    partial = _worth("accounts", "packages")
    assert "would be incomplete: it does not hold Configuration tree, SSH host keys" in partial
    assert "can rebuild" not in partial
    lacking = _worth(
        findings=[
            Finding(
                severity="warning",
                code="lacks-root-keys",
                text="No key of root.",
                remedy="Add one.",
            ),
            Finding(severity="warning", code="points-outside", text="x", remedy="y"),
            Finding(
                severity="warning", code="moved-while-read", text="1 document moved.", remedy="z"
            ),
        ]
    )
    assert "would be incomplete: No key of root." in lacking
    assert "points to 1 path outside of it" in lacking
    assert "1 document moved. Such documents may be torn" in lacking


def test_the_directory_server_stands_still_whichever_part_is_put_back() -> None:
    """The entries alone were loaded beneath the running server."""
    kind = load(text_of("openldap-directory.toml"), shipped)
    steps = {step.title: step for _, step in kind.steps()}
    loaded = [
        step for step in steps.values() if step.run is not None and "slapadd" in str(step.run)
    ]
    parts = {part for step in loaded if step.do == "command" for part in step.parts}
    assert parts == {"directory-configuration", "directory-entries"}
    assert parts <= set(steps["Stop the directory server"].parts)
    assert parts <= set(steps["Start the directory server"].parts)
