"""From the text of a kind file to a checked kind; every mistake is told with its place."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

from pydantic import ValidationError

from fennox.core.errors import BadInput
from fennox.core.kinds import expressions
from fennox.core.kinds.model import Kind


@dataclass(frozen=True)
class Mistake:
    """One mistake in a kind file; ``line`` is 0 where it cannot be told."""

    line: int
    where: str
    text: str


def mistakes(text: str) -> tuple[Kind | None, list[Mistake]]:
    """Parse and check a kind file."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        return None, [Mistake(_line_in(str(error)), "TOML", str(error))]
    try:
        kind = Kind.model_validate(data)
    except ValidationError as error:
        found = []
        for item in error.errors(include_url=False):
            where = ".".join(str(step) for step in item["loc"])
            found.append(Mistake(_line_of(text, [str(step) for step in item["loc"]]), where, item["msg"]))
        return None, found
    wrong = [Mistake(_line_of(text, [place]), place, why) for place, why in expressions.check_all(kind)]
    return (None if wrong else kind), wrong


def load(text: str) -> Kind:
    kind, wrong = mistakes(text)
    if kind is None:
        first = wrong[0]
        raise BadInput(
            f"The kind file is wrong at line {first.line} ({first.where}): {first.text}.",
            "Mend it; `fennox kind check FILE` lists every mistake.",
            mistakes=[f"{item.line}: {item.where}: {item.text}" for item in wrong],
        )
    return kind


def _line_in(message: str) -> int:
    words = message.replace(",", " ").split()
    return int(words[words.index("line") + 1]) if "line" in words else 0


def _line_of(text: str, path: list[str]) -> int:
    """The line of the deepest name of the path that occurs in the text, counted over list positions."""
    lines = text.split("\n")
    at = 0
    for step in path:
        if step.isdigit():
            continue
        for number in range(at, len(lines)):
            words = lines[number].strip().lstrip("[").split("=")[0].strip().rstrip("]")
            if step in words.replace('"', "").split("."):
                at = number
                break
    return at + 1
