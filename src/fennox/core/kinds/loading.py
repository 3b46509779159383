"""From the text of a kind file to a checked kind; every mistake is told with its place and what to do."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Any

import tomlkit
from pydantic import ValidationError

from fennox.core.errors import BadInput, NotFound
from fennox.core.kinds import expressions, including
from fennox.core.kinds.model import Kind
from fennox.core.kinds.positions import Path, Position, nearest, positions
from fennox.core.kinds.sources import KindModel

Texts = Callable[[str], str]
"""The text of a kind by its name, for kinds that build on others; raises :class:`NotFound`."""


@dataclass(frozen=True)
class Mistake:
    """One mistake in a kind file; ``line`` and ``column`` are counted from 1."""

    line: int
    column: int
    where: str
    text: str
    remedy: str = ""


def _alone(name: str) -> str:
    raise NotFound(f"There is no kind {name}.", "Give the kinds that it builds on as well.")


def mistakes(text: str, texts: Texts = _alone) -> tuple[Kind | None, list[Mistake]]:
    """Parse and check a kind file with the kinds it builds on."""
    try:
        own = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        place = re.search(r"line (\d+), column (\d+)", str(error))
        line, column = (int(place.group(1)), int(place.group(2))) if place else (text.count("\n") + 1, 1)
        said = re.sub(r" \(at .*\)$", "", str(error))
        return None, [Mistake(line, column, "TOML", said, "Mend the TOML; see https://toml.io.")]
    known = positions(text)
    try:
        data = _with_includes(own, texts, [])
    except (BadInput, NotFound) as error:
        at = nearest(known, ("includes",))
        return None, [Mistake(at.line, at.column, "includes", error.what, error.remedy)]
    try:
        kind = Kind.model_validate(data)
    except ValidationError as error:
        return None, [_mistake(dict(item), own, data, known) for item in error.errors(include_url=False)]
    wrong = []
    for path, why, remedy in [*expressions.check_all(kind), *_unknown_placeholders(kind)]:
        own_path = _own_path(own, data, path)
        at = nearest(known, own_path)
        wrong.append(Mistake(at.line, at.column, _dotted(own_path), why, remedy))
    return (None if wrong else kind), wrong


def load(text: str, texts: Texts = _alone) -> Kind:
    kind, wrong = mistakes(text, texts)
    if kind is None:
        first = wrong[0]
        raise BadInput(
            f"The kind file is wrong at line {first.line} ({first.where}): {first.text.rstrip('.')}.",
            first.remedy or "Mend it; `fennox kind check FILE` lists every mistake.",
            mistakes=[f"{item.line}:{item.column}: {item.where}: {item.text}" for item in wrong],
        )
    return kind


def whole(text: str, texts: Texts) -> str:
    """The kind as one text that builds on nothing: what a backup carries, and the offline reader prints steps from."""
    own = tomllib.loads(text)
    if not own.get("includes"):
        return text
    data = _with_includes(own, texts, [])
    return tomlkit.dumps({name: value for name, value in data.items() if name != "includes"})


def _with_includes(own: including.Data, texts: Texts, within: list[str]) -> including.Data:
    data, names = own, own.get("includes", [])
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
        raise BadInput("It must be a list of names of kinds.", 'Write for example includes = ["linux-server"].')
    for name in names:
        if name in within or name == own.get("name"):
            raise BadInput(f"The kind {name} builds on itself.", "Take it out of includes.")
        base = _with_includes(tomllib.loads(texts(name)), texts, [*within, name])
        data = _checked_merge(data, base)
    return data


def _checked_merge(own: including.Data, base: including.Data) -> including.Data:
    try:
        return including.merged(own, base)
    except (AttributeError, TypeError):
        return own  # something in it is not of the shape it must have; the model tells what


def _mistake(item: dict[str, Any], own: Any, data: Any, known: dict[Path, Position]) -> Mistake:
    path = _own_path(own, data, tuple(item["loc"]))
    remedy = ""
    if item["type"] == "extra_forbidden" and path:
        remedy = _meant(str(path[-1]))
    elif item["type"] == "missing":
        remedy = f"Add {path[-1]}."
    at = nearest(known, path)
    said = {"extra_forbidden": "this is not known here", "missing": "this is missing"}
    text = said.get(item["type"], str(item["msg"]).removeprefix("Value error, "))
    return Mistake(at.line, at.column, _dotted(path), text, remedy)


def _meant(name: str) -> str:
    """A field of some model that is written nearly so."""
    models = KindModel.__subclasses__()
    fields = {field.alias or own for model in models for own, field in model.model_fields.items()}
    close = get_close_matches(name, fields, 1)
    return f"Did you mean {close[0]}?" if close else "Take it out; docs/kinds.md lists what there is."


def _own_path(own: Any, data: Any, path: Path) -> Path:
    """A path in the merged data as one in the file itself, as far as it stands there."""
    known: dict[int, Path] = {}

    def walk(value: Any, at: Path) -> None:
        if isinstance(value, dict | list):
            known[id(value)] = at
            for step, inner in value.items() if isinstance(value, dict) else enumerate(value):
                walk(inner, (*at, step))

    walk(own, ())
    found: Path = ()
    value = data
    for step in path:
        found = (*found, step)
        try:
            value = value[step]
        except (KeyError, IndexError, TypeError):
            break
        found = known.get(id(value), found)
    return found


def _dotted(path: Path) -> str:
    """``part[2].source[0].files``: members are counted from 1, as people do."""
    text = ""
    for step in path:
        text += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if text else step
    return text or "the file"


def _unknown_placeholders(kind: Kind) -> Iterator[tuple[Path, str, str]]:
    """Every ``{name}`` in a command, pattern or path that no setting gives."""
    settings = set(kind.settings)
    for number, part in enumerate(kind.part):
        for place, source in enumerate(part.source):
            at: Path = ("part", number, "source", place)
            words = [*(source.run or []), *(source.each or []), *(source.files or []), *source.without]
            allowed = settings | ({"each"} if source.each else set())
            yield from _unknown(at, [*words, source.document or ""], allowed)
    phases: dict[str, int] = {}
    for phase, step in kind.all_steps():
        phases[phase] = phases.get(phase, -1) + 1
        allowed = settings | ({"name"} if step.each else set()) | ({"scratch"} if step.do == "validate" else set())
        at = ("restore", phase, phases[phase])
        yield from _unknown(at, [*(step.run or []), step.document or ""], allowed)


def _unknown(at: Path, words: list[str], allowed: set[str]) -> Iterator[tuple[Path, str, str]]:
    for name in sorted({name for word in words for name in re.findall(r"\{([a-z][a-z0-9_-]*)\}", word)} - allowed):
        close = get_close_matches(name, allowed, 1)
        remedy = f"Did you mean {{{close[0]}}}?" if close else f"Declare it: [settings.{name}]."
        yield at, f"there is no setting {name} for {{{name}}}", remedy
