"""The format of kind files, generated from the models: a JSON Schema for editors and a page for
people.
"""

from __future__ import annotations

import types
import typing
from collections.abc import Iterator
from typing import Any, Literal, Union, get_args, get_origin

from pydantic.fields import FieldInfo

from fennox.core.kinds.actions import KindModel
from fennox.core.kinds.model import Kind

_ALWAYS = ["name", "version", "title"]  # the rest may come from an included kind


def json_schema() -> dict[str, object]:
    """JSON Schema (2020-12) of a kind file, also of one that builds on others."""
    schema = Kind.model_json_schema(by_alias=True)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **schema,
        "title": "A kind of system",
        "required": _ALWAYS,
    }


def reference() -> str:
    """Every table and field of a kind file, as Markdown."""
    lines = [
        "# What a kind file may say",
        "",
        (
            "Made from the models in `src/fennox/core/kinds/`; `docs/kinds.md` explains them,"
            " `fennox kind schema`"
        ),
        (
            "prints the same as a JSON Schema. *needed* stands where there is no default; a kind"
            " that builds on others"
        ),
        "has most of it from them.",
    ]
    for place, model in _models():
        about = " ".join((model.__doc__ or "").split())
        lines += [
            "",
            f"## {place}",
            "",
            about,
            "",
            "| field | is | default | what |",
            "|---|---|---|---|",
        ]
        for name, field in model.model_fields.items():
            default = "*needed*" if field.is_required() else f"`{_default(field)}`"
            said = (field.description or "").replace("\n", " ").replace("|", "\\|")
            lines.append(
                f"| `{field.alias or name}` | {_type(field.annotation)} | {default} | {said} |"
            )
    return "\n".join(lines) + "\n"


def _models() -> Iterator[tuple[str, type[KindModel]]]:
    """Every model once, by the path where it first appears."""
    seen: set[type[KindModel]] = set()
    waiting: list[tuple[str, type[KindModel]]] = [("The file", Kind)]
    while waiting:
        place, model = waiting.pop(0)
        if model in seen:
            continue
        seen.add(model)
        yield place, model
        for name, field in model.model_fields.items():
            for inner in _inside(field.annotation):
                above = "" if model is Kind else f"{place.strip('[]')}."
                waiting.append((_place(f"{above}{field.alias or name}", field.annotation), inner))


def _place(path: str, annotation: Any) -> str:
    origin = get_origin(annotation)
    if origin is list:
        return f"[[{path}]]"
    return f"[{path}.NAME]" if origin is dict else f"[{path}]"


def _inside(annotation: Any) -> Iterator[type[KindModel]]:
    if isinstance(annotation, type) and not get_args(annotation):
        if issubclass(annotation, KindModel):
            yield annotation
        return
    for inner in get_args(annotation):
        yield from _inside(inner)


def _type(annotation: Any) -> str:
    """A field's type in words."""
    origin, inner = get_origin(annotation), get_args(annotation)
    if origin is Literal:
        return ", ".join(f"`{word}`" for word in inner)
    if origin in (Union, types.UnionType):
        return " or ".join(_type(item) for item in inner if item is not type(None))
    if origin is typing.Annotated:
        return _type(inner[0])
    if origin is list:
        return f"list of {_type(inner[0])}"
    if origin is dict:
        return f"table of {_type(inner[1])}"
    if annotation is Any:
        return "anything"
    if isinstance(annotation, type) and issubclass(annotation, KindModel):
        return f"table ({annotation.__name__})"
    return {str: "text", int: "number", bool: "yes or no"}.get(
        annotation, getattr(annotation, "__name__", "text")
    )


def _default(field: FieldInfo) -> str:
    value = field.get_default(call_default_factory=True)
    if isinstance(value, KindModel):
        return "{}"
    if isinstance(value, bool):  # which equals a number
        return str(value).lower()
    if value is None:
        return "–"
    return str(value) if isinstance(value, list | dict) else repr(value)
