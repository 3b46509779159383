"""A kind for one system: with the settings' values in every path pattern. Pure. Sources and steps
are filled where they are used, because they also take names from lists.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Protocol, Self, TypeVar

from fennox.core.errors import BadInput
from fennox.core.kinds.expressions import patterns, wanted
from fennox.core.kinds.model import Kind
from fennox.core.kinds.positions import Path
from fennox.core.kinds.sources import Expression, PartModel


class _Placed(Protocol):
    """A rule for the documents that match its pattern."""

    @property
    def in_(self) -> str: ...

    def model_copy(
        self, *, update: Mapping[str, object] | None = None, deep: bool = False
    ) -> Self: ...


Rule = TypeVar("Rule", bound=_Placed)


def placed_patterns(kind: Kind) -> Iterator[tuple[Path, list[str], bool]]:
    """Every pattern that :func:`filled_in` fills: its path, its texts, and whether it may become
    several.
    """
    for number, part in enumerate(kind.part):
        yield ("part", number, "secrets"), part.secrets, True
    yield ("certificates",), kind.certificates, True
    for table in ("noise", "collections", "formats", "hidden"):
        for number, rule in enumerate(getattr(kind, table)):
            yield (table, number, "in"), [rule.in_], True
    for name, listed in kind.census.items():
        for number, expression in enumerate(listed):
            yield ("census", name, number, "in"), [expression.in_], True
    for number, item in enumerate(kind.completeness):
        yield ("completeness", number, "needs", "in"), [item.needs.in_], False
    for number, doubt in enumerate(kind.doubts):
        yield ("doubts", number, "finds", "in"), [doubt.finds.in_], False
    for number, reference in enumerate(kind.references):
        yield ("references", number, "paths", "in"), [reference.paths.in_], False
    for number, place in enumerate(kind.place):
        yield ("place", number, "in"), place.in_, True
    for name in ("address", "account", "key"):
        found: Expression | None = getattr(kind.expected, name)
        if found is not None:
            yield ("expected", name, "in"), [found.in_], False


def filled_in(kind: Kind, values: Mapping[str, str]) -> Kind:
    """The kind with ``values`` in place of the settings named in its patterns. Most kinds name
    none.
    """
    if not any("{" in text for _, texts, _ in placed_patterns(kind) for text in texts):
        return kind

    def listed(texts: list[str]) -> list[str]:
        return patterns(texts, kind.settings, values)

    def several(rules: Iterable[Rule]) -> list[Rule]:
        return [
            rule.model_copy(update={"in_": text}) for rule in rules for text in listed([rule.in_])
        ]

    def one(expression: Expression | None) -> Expression | None:
        return None if expression is None else several([expression])[0]

    def part(model: PartModel) -> PartModel:
        return model.model_copy(update={"secrets": listed(model.secrets)})

    return kind.model_copy(
        update={
            "part": [part(model) for model in kind.part],
            "certificates": listed(kind.certificates),
            "noise": several(kind.noise),
            "collections": several(kind.collections),
            "formats": several(kind.formats),
            "hidden": several(kind.hidden),
            "census": {name: several(expressions) for name, expressions in kind.census.items()},
            "completeness": [
                item.model_copy(update={"needs": one(item.needs)}) for item in kind.completeness
            ],
            "doubts": [
                doubt.model_copy(update={"finds": one(doubt.finds)}) for doubt in kind.doubts
            ],
            "references": [
                item.model_copy(update={"paths": one(item.paths)}) for item in kind.references
            ],
            "place": [rule.model_copy(update={"in_": listed(rule.in_)}) for rule in kind.place],
            "expected": kind.expected.model_copy(
                update={
                    name: one(getattr(kind.expected, name))
                    for name in ("address", "account", "key")
                }
            ),
        }
    )


def for_system(kind: Kind, settings: Mapping[str, str]) -> Kind:
    """As :func:`filled_in`, with the settings of a system or backup, which may be for another
    version of the kind.
    """
    return filled_in(
        kind, {name: settings.get(name, setting.default) for name, setting in kind.settings.items()}
    )


def calls_secret(kind: Kind, part: str, path: str) -> bool:
    """Whether a part's present rules declare a document secret, regardless of the rules at the
    take.
    """
    model = next((model for model in kind.part if model.name == part), None)
    if model is None:
        return False
    named = [
        re.sub(r"\{[a-z][a-z0-9_-]*\}", "*", source.document or "")
        for source in model.source
        if source.secret
    ]
    return wanted(model.secrets, path) or wanted(named, path)


def values_of(kind: Kind, settings: dict[str, str]) -> dict[str, str]:
    """Values of the settings for placeholders: the system's own, otherwise the kind's defaults.
    Secrets are not among them: a link brings them along.
    """
    unknown = set(settings) - set(kind.settings)
    if unknown:
        raise BadInput(
            f"The kind {kind.name} has no setting {', '.join(sorted(unknown))}.",
            f"It has: {', '.join(sorted(kind.settings)) or 'none'}.",
        )
    values = {name: settings.get(name, setting.default) for name, setting in kind.settings.items()}
    for name, setting in kind.settings.items():
        if (why := setting.unfit(values[name])) is not None:
            raise BadInput(
                f"The setting {name} ({setting.title}): {why}.",
                "Give another value.",
                field="settings",
            )
    return {name: value for name, value in values.items() if not kind.settings[name].names_login}
