"""The shape of a comparison."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

from fennox.core.kinds.literals import Shape

What = Literal["added", "removed", "changed"]
MASK = "•••"
MOST_CHANGES = 5_000  # values and lines one comparison lists; beyond that it only names documents


class CompareModel(BaseModel):
    model_config = ConfigDict(
        extra="forbid", defer_build=True, json_schema_serialization_defaults_required=True
    )


class Change(CompareModel):
    """One changed value. ``path``: the names that lead to it. Values are JSON values, lines are
    texts. ``secret``: both values are masked, and only the fact of the change is shown.
    """

    what: What
    path: list[str]
    before: Any = None
    after: Any = None
    secret: bool = False


class DocumentChange(CompareModel):
    """One document. ``said``: a sentence for what cannot be shown value by value."""

    part: str
    path: str
    what: What
    shape: Shape
    attributes: list[Change] = []  # type, mode, owner, group, link
    changes: list[Change] = []
    said: str = ""
    patch: list[dict[str, object]] = []  # RFC 6902, within the content; only where asked for


class ListChange(CompareModel):
    """A census list: names added and names removed."""

    name: str
    added: list[str]
    removed: list[str]


class Comparison(CompareModel):
    """``same``: number of equal documents; ``noise``: of those that differ only in noise.
    ``other_lists``: lists not compared, because the kind's rules for them changed in between.
    ``other_sources``: parts whose documents may be on one side only, because the other side did not
    read them.
    """

    documents: list[DocumentChange]
    lists: list[ListChange]
    same: int
    noise: int
    only_left_parts: list[str] = []
    only_right_parts: list[str] = []
    other_lists: list[str] = []
    other_sources: list[str] = []
