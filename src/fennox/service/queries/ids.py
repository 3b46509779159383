"""Looking up ids by their first characters."""

from __future__ import annotations

from fennox.core.errors import NotFound

LEAST = 6  # characters


def not_one(what: str, text: str, found: int, lists: str, field: str | None = None) -> NotFound:
    """The error for input that is not the id of one thing. ``lists``: the command that lists the
    existing ones.
    """
    remedy = f"`{lists}` shows those there are."
    if len(text) < LEAST:
        return NotFound(
            f"{text[:32]} is too short for the id of a {what}.",
            f"Give six characters or more. {remedy}",
            field=field,
        )
    if found > 1:
        return NotFound(
            f"More than one {what} begins with {text[:32]}.",
            f"Give more of its id. {remedy}",
            field=field,
        )
    return NotFound(f"There is no {what} {text[:32]}.", remedy, field=field)
