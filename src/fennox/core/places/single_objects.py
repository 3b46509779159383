"""Putting back single objects: of a census list only the names that a person chose. Pure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from fennox.core.errors import BadInput
from fennox.core.evidence.evaluation import Census
from fennox.core.kinds.model import Kind
from fennox.core.names import printable
from fennox.core.words import first_few

_PUTS = ("command", "write", "upload", "offer", "request")


def must_be_single(
    kind: Kind, parts: Sequence[str] | None, only: Mapping[str, Sequence[str]]
) -> None:
    """Raises BadInput unless every chosen part is put back name by name, of these lists."""
    if not only:
        return
    by_name = parts_by_name(kind)
    for name, listed in only.items():
        if name not in by_name:
            known = ", ".join(sorted(by_name)) or "none"
            raise BadInput(
                f"{kind.title} puts back no single {printable(name)}.",
                f"It does so for: {known}.",
                field="only",
            )
        if not listed:
            raise BadInput(f"No {name} are named.", "Give --only LIST=NAME.", field="only")
    allowed = {part for name in only for part in by_name[name]}
    chosen = list(parts) if parts is not None else [part.name for part in kind.part]
    if whole := [part for part in chosen if part not in allowed]:
        raise BadInput(
            f"The part {whole[0]} is put back whole, and not name by name.",
            f"Give --part {' --part '.join(sorted(allowed))}.",
            field="only",
        )


def parts_by_name(kind: Kind) -> dict[str, set[str]]:
    """Census lists over whose names steps repeat, with the parts that are put back by these steps
    alone.
    """
    puts = [step for _, step in kind.steps() if step.do in _PUTS and step.parts]
    whole = {part for step in puts if step.each is None for part in step.parts}
    found: dict[str, set[str]] = {}
    for step in puts:
        if step.each is not None and (parts := set(step.parts) - whole):
            found.setdefault(step.each.list, set()).update(parts)
    return found


def chosen(only: Mapping[str, Sequence[str]], census: Census) -> dict[str, list[str]]:
    """The names, each once. Raises BadInput for one that the backup does not hold."""
    for name, listed in only.items():
        held = census.get(name, [])
        if missing := [one for one in listed if one not in held]:
            raise BadInput(
                f"The backup holds no {printable(missing[0])} among its {name}.",
                f"It holds: {printable(first_few(held, 8)) or 'none'}.",
                field="only",
            )
    return {name: list(dict.fromkeys(listed)) for name, listed in only.items()}
