"""Regular expressions of kind files: read as Python reads them, in a time that grows as the text
does.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from time import process_time
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core import regexes
from fennox.core.kinds.expressions import Evidence, values
from fennox.core.kinds.sources import Expression
from fennox.core.regexes import TooSlow, Unreadable, compiled

_FIELDS = ("regex", "lines", "names", "heading", "version_form", "expect", "fits", "without")


def _patterns(value: Any, field: str = "") -> Iterator[str]:
    if isinstance(value, dict):
        for name, inner in value.items():
            if not (
                name == "names" and "list" in value
            ):  # of a step that repeats: all, missing or extra
                yield from _patterns(inner, name)
    elif isinstance(value, list):
        for inner in value:
            yield from _patterns(inner)
    elif isinstance(value, str) and field in _FIELDS:
        yield value


def _shipped() -> list[str]:
    folders = [Path(str(files("fennox").joinpath("kinds"))), Path(__file__).parents[2] / "demo"]
    found = [file for folder in folders for file in sorted(folder.rglob("*.toml"))]
    return sorted(
        {pattern for file in found for pattern in _patterns(tomllib.loads(file.read_text()))}
    )


PATTERNS = _shipped()
_WORDS = sorted({word for pattern in PATTERNS for word in re.findall(r"[A-Za-z_-]{2,}", pattern)})
_TEXTS = st.lists(
    st.one_of(
        st.sampled_from(_WORDS),
        st.sampled_from([*" \t\n\"';{}()[]=:,#/@.", "\n\n", "/etc/a", "10.0.0.1:80", "é"]),
    ),
    max_size=60,
).map("".join)


def test_every_shipped_pattern_takes_linear_time() -> None:
    assert len(PATTERNS) > 80
    assert [pattern for pattern in PATTERNS if not compiled(pattern).linear] == []


@given(st.sampled_from(PATTERNS), _TEXTS)
def test_shipped_patterns_draw_what_python_draws(pattern: str, text: str) -> None:
    groups = [match.group(match.lastindex or 0) for match in re.finditer(pattern, text, re.ASCII)]
    assert list(compiled(pattern).drawn(text)) == groups


@pytest.mark.parametrize(
    "unit",
    ["\n", " \n", "X\n", "server", "server ", "a ", "<", "secret ", "{", '"', "include\n", "é"],
)
def test_no_text_holds_a_shipped_pattern_up(unit: str) -> None:
    """A hundred thousand of anything: by backtracking one of them took minutes."""
    text = unit * 100_000
    slow = []
    for pattern in PATTERNS:
        begun = process_time()
        for _ in zip(compiled(pattern).drawn(text), range(1000), strict=False):
            pass
        if process_time() - begun > 3:
            slow.append(pattern)
    assert slow == []


def test_what_a_pattern_of_earlier_days_looks_ahead_for_is_found() -> None:
    pattern = compiled(r"(?m)^server (?!unix:)(\S+)")
    assert not pattern.linear
    text = "server é\nserver unix:/x\nserver ü-1\n"
    assert list(pattern.drawn(text)) == ["é", "ü-1"]
    assert (
        pattern.replaced(text, lambda value: f"<{value}>")
        == "server <é>\nserver unix:/x\nserver <ü-1>\n"
    )


def test_one_that_does_not_come_to_an_end_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(regexes, "SECONDS", 0.05)
    hostile = Expression.model_validate({"in": "/etc/x", "regex": "(?:x+)+(?=y)"})
    with pytest.raises(TooSlow):
        compiled(hostile.regex or "").first("x" * 50_000)
    evidence = Evidence(contents={"/etc/x": b"x" * 50_000}, paths={"/etc/x"})
    assert values(hostile, evidence) == []
    assert [str(one) for one in evidence.complaints] == [
        "/etc/x was not evaluated to its end: a pattern was still working after 0.05 s"
    ]


def test_who_has_no_patience_left_hears_of_it() -> None:
    expression = Expression.model_validate({"in": "/etc/x", "regex": "x"})
    left = iter([True, True, False])
    evidence = Evidence(contents={"/etc/x": b"xxxx"}, paths={"/etc/x"}, patience=lambda: next(left))
    assert values(expression, evidence) == ["x", "x"]
    assert [str(one) for one in evidence.complaints] == [
        "/etc/x was not evaluated to its end: all expressions together took too long"
    ]


@pytest.mark.parametrize("pattern", ["(", "[a", "*"])
def test_what_is_no_pattern_is_refused(pattern: str) -> None:
    with pytest.raises(Unreadable):
        compiled(pattern)


@given(st.text(max_size=30))
def test_replacing_touches_nothing_else(text: str) -> None:
    text = text.encode("utf-8", "replace").decode()
    assert compiled("b+").replaced(text, lambda value: "x" * len(value)) == re.sub("b", "x", text)
    assert compiled(r"a(b*)").replaced(text, lambda value: "x" * len(value)) == re.sub(
        "a(b*)", lambda match: "a" + "x" * len(match.group(1)), text
    )
