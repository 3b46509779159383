"""Where a value stands in a TOML text, so that a mistake is reported with line and column.

The parser of the standard library does not report it. Tables and keys begin a line in practice; a
value inside an inline table or a list gets the line of the key it belongs to.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

Path = tuple[str | int, ...]

_HEADER = re.compile(r"\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(
    r"""\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*'))*)\s*="""
)
_LONG = ('"""', "'''")
_STEP = re.compile(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""")


@dataclass(frozen=True)
class Position:
    """Both counted from 1."""

    line: int
    column: int


def positions(text: str) -> dict[Path, Position]:
    """The place of every table and key, by its path; members of arrays of tables are counted from
    0.
    """
    found: dict[Path, Position] = {}
    counts: dict[Path, int] = {}
    table: Path = ()
    open_quote = ""
    depth = 0
    for number, line in enumerate(text.split("\n"), start=1):
        if open_quote:
            _, closed, line = line.partition(open_quote)
            if not closed:
                continue
            open_quote = _quote_after(line)
            depth = max(0, depth + _brackets(line))
            continue
        if depth == 0 and (header := _HEADER.match(line)):
            table = _table(_steps(header.group(2)), header.group(1) == "[[", counts)
            found.setdefault(table, Position(number, header.start(1) + 1))
            continue
        if depth == 0 and (key := _KEY.match(line)):
            path = (*table, *_steps(key.group(1)))
            found.setdefault(path, Position(number, key.start(1) + 1))
        depth = max(0, depth + _brackets(line))
        open_quote = _quote_after(line)
    return found


def nearest(found: dict[Path, Position], path: Path) -> Position:
    """The place of the path, of the first that begins with it, or of its longest beginning that is
    known.
    """
    for length in range(len(path), 0, -1):
        if path[:length] in found:
            return found[path[:length]]
        if below := [place for known, place in found.items() if known[:length] == path[:length]]:
            return min(below, key=lambda place: place.line)
    return Position(1, 1)


def _steps(text: str) -> Path:
    return tuple(step.strip("\"'") for step in _STEP.findall(text))


def _table(steps: Path, member: bool, counts: dict[Path, int]) -> Path:
    """The full path of a table header: each array of tables on the way stands at its newest
    member.
    """
    path: Path = ()
    for place, step in enumerate(steps):
        path = (*path, step)
        if member and place == len(steps) - 1:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = (*path, counts[path])
    return path


def _without_texts(line: str) -> str:
    for sign in _LONG:
        line = re.sub(f"{sign}.*?(?:{sign}|$)", "", line)
    return re.sub(r'"(?:[^"\\]|\\.)*"|\'[^\']*\'|#.*', "", line)


def _brackets(line: str) -> int:
    plain = _without_texts(line)
    return sum(plain.count(sign) for sign in "[{") - sum(plain.count(sign) for sign in "]}")


def _quote_after(line: str) -> str:
    """The kind of long text that a line leaves open."""
    return next((sign for sign in _LONG if line.count(sign) % 2), "")
