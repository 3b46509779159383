"""Kind files: mistakes are told with their place, expressions are safe on hostile documents."""

from __future__ import annotations

from importlib.resources import files

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import BadInput
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import Evidence
from fennox.core.kinds.loading import load, mistakes
from fennox.core.kinds.model import Expression
from fennox.core.names import device_path, noun, printable

SHIPPED = sorted(entry.name for entry in files("fennox").joinpath("kinds").iterdir() if entry.name.endswith(".toml"))


def text_of(name: str) -> str:
    return files("fennox").joinpath(f"kinds/{name}").read_text()


@pytest.mark.parametrize("name", SHIPPED)
def test_every_kind_that_ships_has_no_mistake_and_its_file_is_named_for_it(name: str) -> None:
    assert load(text_of(name)).name == name.removesuffix(".toml")


@pytest.mark.parametrize(
    ("old", "new", "line_holds", "said"),
    [
        ('reach = "ssh"', 'reach = "telnet"', "reach", "ssh"),
        ('name = "settings"\n', 'name = "Settings!"\n', "name =", "cannot be a name"),
        ("csv = { column = 1", "csv = { column = 0", "accounts", "greater than or equal to 1"),
        ('parts = ["ssh-identity"]', 'parts = ["holidays"]', None, "holidays"),
        ("regex = '(?s)^(.+)$'", "regex = '(?s)^((.+))$'", None, None),
        ('list = "packages"', 'list = "parcels"', None, "parcels"),
        ("regex = '(?m)^(\\S+)'", "regex = '(?m)^((\\S+)'", None, "does not compile"),
    ],
)
def test_a_mistake_is_told_with_its_line_and_what_is_wrong(
    old: str, new: str, line_holds: str | None, said: str | None
) -> None:
    text = text_of("linux-server.toml")
    assert old in text
    wrong = text.replace(old, new, 1)
    kind, found = mistakes(wrong)
    if said is None:
        return
    assert kind is None
    assert any(said in mistake.text for mistake in found), found
    if line_holds is not None:
        assert line_holds in wrong.split("\n")[found[0].line - 1]


def test_text_that_is_no_toml_is_told_with_its_line() -> None:
    _, [mistake] = mistakes('name = "x"\nversion = = 1\n')
    assert mistake.line == 2
    with pytest.raises(BadInput, match="line 2"):
        load('name = "x"\nversion = = 1\n')


def draw(content: bytes, **language: object) -> tuple[list[str], list[str]]:
    evidence = Evidence(contents={"doc": content}, paths={"doc"})
    expression = Expression.model_validate({"in": "doc", **language})
    return expressions.values(expression, evidence), evidence.complaints


def test_each_language_draws_names() -> None:
    assert draw(b'{"a": [{"n": "x"}, {"n": 3}]}', jsonpath="$.a[*].n")[0] == ["x", "3"]
    assert draw(b"<r><u n='a'/><u n='b'>t</u></r>", xpath="//u/@n")[0] == ["a", "b"]
    assert draw(b"<r><u>one</u></r>", xpath="//u")[0] == ["one"]
    assert draw(b"root:x:0\n# no:\nship:x:1\n", csv={"column": 1, "separator": ":"})[0] == ["root", "ship"]
    assert draw(b"a=1\nb=2\n", regex=r"(?m)^(\w)=")[0] == ["a", "b"]
    assert draw(b"", names="^(d.)")[0] == ["do"]


@pytest.mark.parametrize(
    ("content", "language"),
    [
        (b"{" * 200_000, {"jsonpath": "$..a"}),
        (b"[" * 200_000 + b"]" * 200_000, {"jsonpath": "$.a"}),
        (b"\xff\xfe not json", {"jsonpath": "$.a"}),
        (b"<!DOCTYPE x [<!ENTITY a 'aaaa'><!ENTITY b '&a;&a;&a;'>]><x>&b;" + b"<", {"xpath": "//x"}),
        (b"not xml", {"xpath": "//x"}),
    ],
)
def test_a_hostile_document_gives_no_value_and_one_complaint(content: bytes, language: dict[str, str]) -> None:
    values, complaints = draw(content, **language)
    assert (values, len(complaints)) == ([], 1)


def test_entities_of_a_far_side_are_not_expanded_and_no_file_is_read() -> None:
    bomb = b"<!DOCTYPE x [<!ENTITY e SYSTEM 'file:///etc/passwd'>]><x><u>&e;</u></x>"
    assert "root" not in "".join(draw(bomb, xpath="//u")[0])


@given(st.text(), st.dictionaries(st.from_regex(r"[a-z][a-z-]*", fullmatch=True), st.text(max_size=20), max_size=3))
def test_placeholders_are_filled_once_and_never_interpreted_again(word: str, values: dict[str, str]) -> None:
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
