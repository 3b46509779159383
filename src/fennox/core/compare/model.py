"""The shape of a comparison."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

from fennox.core.kinds.literals import Shape

What = Literal["added", "removed", "changed"]
MASK = "•••"
MOST_CHANGES = (
    5_000  # values and lines listed by one comparison; beyond that it only names the documents
)


class CompareModel(BaseModel):
    model_config = ConfigDict(
        extra="forbid", defer_build=True, json_schema_serialization_defaults_required=True
    )


class Change(CompareModel):
    """One value. ``path`` are the names that lead to it; values are JSON values, and lines are
    texts.

    ``secret``: both values are masked; only the fact that they differ is shown.
    """

    what: What
    path: list[str]
    before: Any = None
    after: Any = None
    secret: bool = False


class DocumentChange(CompareModel):
    """One document. ``said`` puts into words what cannot be shown value by value."""

    part: str
    path: str
    what: What
    shape: Shape
    attributes: list[Change] = []  # type, mode, owner, group, link
    changes: list[Change] = []
    said: str = ""
    patch: list[dict[str, object]] = []  # RFC 6902, within the content; only where asked for


class ListChange(CompareModel):
    """A census list: names that came and names that went."""

    name: str
    added: list[str]
    removed: list[str]


class Comparison(CompareModel):
    """``same``: documents that are equal; ``noise``: those that differ only in what the kind calls
    noise.

    ``other_lists`` are drawn by other rules on each side, as the kind has changed, and not
    compared; documents of ``other_sources``, which are parts, may be on one side alone because the
    other did not ask for them.
    """

    documents: list[DocumentChange]
    lists: list[ListChange]
    same: int
    noise: int
    only_left_parts: list[str] = []
    only_right_parts: list[str] = []
    other_lists: list[str] = []
    other_sources: list[str] = []
