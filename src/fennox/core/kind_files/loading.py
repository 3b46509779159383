"""From the text of a kind file to a checked kind; every mistake is reported with its position and a
remedy.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Any

import tomlkit
from pydantic import ValidationError
from pydantic_core import ErrorDetails

from fennox.core.errors import BadInput, NotFound
from fennox.core.kind_files import advice, expression_checks, including
from fennox.core.kind_files.consistency import Said, inconsistencies
from fennox.core.kinds.actions import KindModel
from fennox.core.kinds.model import Kind
from fennox.core.kinds.positions import Path, nearest, positions

Texts = Callable[[str], str]
"""The text of a kind by its name, for kinds that build on others; raises :class:`NotFound`."""


@dataclass(frozen=True)
class Mistake:
    """One mistake in a kind file; ``line`` and ``column`` are counted from 1. ``grave``: the kind
    cannot be used.
    """

    line: int
    column: int
    where: str
    text: str
    remedy: str = ""
    grave: bool = True


def _alone(name: str) -> str:
    raise NotFound(f"There is no kind {name}.", "Give the kinds that it builds on as well.")


def mistakes(text: str, texts: Texts = _alone) -> tuple[Kind | None, list[Mistake]]:
    """Parse and check a kind file with the kinds it builds on, with all advice to its author.
    Returns None if a mistake is grave. Lesser mistakes are returned with the kind: it can be used,
    but may not do what its author meant.
    """
    return _read(text, texts, strict=True)


def _read(text: str, texts: Texts, *, strict: bool) -> tuple[Kind | None, list[Mistake]]:
    try:
        own = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        place = re.search(r"line (\d+), column (\d+)", str(error))
        line, column = (
            (int(place.group(1)), int(place.group(2))) if place else (text.count("\n") + 1, 1)
        )
        said = re.sub(r" \(at .*\)$", "", str(error))
        return None, [Mistake(line, column, "TOML", said, "Fix the TOML; see https://toml.io.")]
    known = positions(text)

    def at(path: Path, said: str, remedy: str, *, grave: bool = True) -> Mistake:
        place = nearest(known, path)
        return Mistake(place.line, place.column, _dotted(path), said, remedy, grave)

    found = [at(*one) for one in including.misshapen(own)] if strict else []
    sound = own
    for path, _, _ in including.misshapen(own) if strict else ():
        sound = _without(sound, path)
    try:
        data = _with_includes(sound, texts, [])
    except (BadInput, NotFound) as error:
        return None, [*found, at(("includes",), error.what, error.remedy)]
    kind, wrong = _validated(own, data, strict=strict)
    found += [at(*one) for one in wrong]
    if kind is not None:
        review = advice.mistakes if strict else advice.unknown_placeholders
        for path, why, remedy in [
            *inconsistencies(kind),
            *expression_checks.check_all(kind),
            *review(kind),
        ]:
            found.append(at(_own_path(own, data, path), why, remedy))
        for path, why, remedy in advice.doubts(kind) if strict else ():
            found.append(at(_own_path(own, data, path), why, remedy, grave=False))
    found = list({(item.line, item.column, item.text): item for item in found}.values())
    return (None if any(item.grave for item in found) else kind), found


def _validated(own: Any, data: including.Data, *, strict: bool) -> tuple[Kind | None, list[Said]]:
    """The kind, and the mistakes in its shape. Invalid fields are left out so that the rest can be
    checked.
    """
    found: list[Said] = []
    taken_out: set[Path] = set()
    while True:
        try:
            return Kind.model_validate(data, strict=strict), found
        except ValidationError as error:
            items = error.errors(include_url=False)
        pruned = data
        for item in sorted(
            items, key=lambda item: [str(step).zfill(6) for step in item["loc"]], reverse=True
        ):
            path: Path = tuple(item["loc"])
            if path not in taken_out:
                found.append(_mistake(item, own, data))
            lost = (
                path in taken_out or item["type"] == "missing" or _without(pruned, path) is pruned
            )
            pruned = _without(pruned, _member(pruned, path) if lost else path)
            taken_out.add(path)
        if not strict or pruned is data:
            return None, found[::-1]
        data = pruned


def _member(data: Any, path: Path) -> Path:
    """The innermost list member on a path, or the path itself."""
    value, found = data, path[:1]
    for length, step in enumerate(path, start=1):
        if isinstance(value, list):
            found = path[:length]
        try:
            value = value[step]
        except (KeyError, IndexError, TypeError):
            break
    return found


def _without(data: Any, path: Path) -> Any:
    """A copy of the data without the value at a path; unchanged if there is none."""
    step, rest = path[0], path[1:]
    held = dict(enumerate(data)) if isinstance(data, list) else data
    if not isinstance(held, dict) or step not in held:
        return data
    kept = dict(held)
    if not rest:
        del kept[step]
    elif (inner := _without(held[step], rest)) is held[step]:
        return data
    else:
        kept[step] = inner
    return list(kept.values()) if isinstance(data, list) else kept


def load(text: str, texts: Texts = _alone) -> Kind:
    """For stored kinds, which may break rules newer than themselves.

    :raises BadInput: with the first mistake
    """
    return _sound(*_read(text, texts, strict=False))


def checked(text: str, texts: Texts) -> Kind:
    """For kinds about to be stored.

    :raises BadInput: with the first mistake
    """
    return _sound(*mistakes(text, texts))


def _sound(kind: Kind | None, wrong: list[Mistake]) -> Kind:
    if kind is not None:
        return kind
    grave = [item for item in wrong if item.grave]
    first = grave[0]
    raise BadInput(
        f"The kind file is wrong at line {first.line} ({first.where}): {first.text.rstrip('.')}.",
        first.remedy or "Fix it; `fennox kind check FILE` lists every mistake.",
        mistakes=[f"{item.line}:{item.column}: {item.where}: {item.text}" for item in grave],
    )


def whole(text: str, texts: Texts) -> str:
    """The kind as one text without includes, as stored in backups and used by the offline
    reader.
    """
    own = tomllib.loads(text)
    if not own.get("includes"):
        return text
    data = _with_includes(own, texts, [])
    return tomlkit.dumps({name: value for name, value in data.items() if name != "includes"})


def _with_includes(own: including.Data, texts: Texts, within: list[str]) -> including.Data:
    data, names = own, own.get("includes", [])
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
        raise BadInput(
            "It must be a list of names of kinds.", 'Write for example includes = ["linux-server"].'
        )
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
        return own  # a field has the wrong type; the model reports which


def _mistake(item: ErrorDetails, own: Any, data: Any) -> Said:
    path = _own_path(own, data, tuple(item["loc"]))
    remedy = ""
    if item["type"] == "extra_forbidden" and path:
        remedy = _meant(str(path[-1]))
    elif item["type"] == "missing":
        remedy = f"Add {path[-1]}."
    said = {"extra_forbidden": "this is not known here", "missing": "this is missing"}
    return path, said.get(item["type"], str(item["msg"]).removeprefix("Value error, ")), remedy


def _meant(name: str) -> str:
    """A similarly spelled field of some model."""
    models = KindModel.__subclasses__()
    fields = {field.alias or own for model in models for own, field in model.model_fields.items()}
    if name in fields:
        return "It belongs elsewhere, or take it out."
    close = get_close_matches(name, fields, 1)
    return (
        f"Did you mean {close[0]}?"
        if close
        else "Take it out; docs/kinds-reference.md lists what there is."
    )


def _own_path(own: Any, data: Any, path: Path) -> Path:
    """A path in the merged data mapped to the file itself, as far as it exists there."""
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
    """As ``part[2].source[1].files``, counting members from 1."""
    text = ""
    for step in path:
        text += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if text else step
    return text or "the file"
