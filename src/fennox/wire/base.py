"""What all answers and requests share. Times are RFC 3339 in UTC, sizes bytes, durations seconds.

Shapes of answers are built when they are first used, since a command needs few of them and should
start at once.
"""

from __future__ import annotations

from typing import Generic, TypeVar

from pydantic import BaseModel, ConfigDict, field_validator

T = TypeVar("T")


class Wanted(BaseModel):
    """Base of requests: unknown fields are an error, so that a misspelt wish is not silently
    ignored.
    """

    model_config = ConfigDict(extra="forbid")

    @field_validator("*", mode="before")
    @classmethod
    def without_nul(cls, given: object) -> object:
        """No name, text or secret holds one, and PostgreSQL keeps none."""
        if holds_nul(given):
            raise ValueError("a text holds the character NUL, which cannot be kept")
        return given


def holds_nul(given: object) -> bool:
    match given:
        case str():
            return "\0" in given
        case dict():
            return any(holds_nul(name) or holds_nul(value) for name, value in given.items())
        case list():
            return any(holds_nul(one) for one in given)
        case _:
            return False


class Shown(BaseModel):
    """Base of answers. Readers of the API must ignore fields they do not know."""

    model_config = ConfigDict(
        extra="ignore", json_schema_serialization_defaults_required=True, defer_build=True
    )


class Page(Shown, Generic[T]):
    """One page of a list; ``after`` is the cursor of the next one, or null."""

    items: list[T]
    after: str | None = None


class Problem(Shown):
    """RFC 9457. ``type`` is stable; ``field`` names the wish at fault; further members depend on
    the type.
    """

    model_config = ConfigDict(extra="allow")

    type: str
    title: str
    status: int
    detail: str
    remedy: str
    field: str | None = None
