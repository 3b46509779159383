"""Bases of requests and responses. Times are RFC 3339 in UTC, sizes bytes, durations seconds.
Response models are built on first use, because a command needs few of them and should start
quickly.
"""

from __future__ import annotations

from typing import Generic, TypeVar

from pydantic import BaseModel, ConfigDict, field_validator

T = TypeVar("T")


class Wanted(BaseModel):
    """Base of requests: unknown fields are an error, so that a misspelt field is not silently
    ignored.
    """

    model_config = ConfigDict(extra="forbid")

    @field_validator("*", mode="before")
    @classmethod
    def without_nul(cls, given: object) -> object:
        """NUL occurs in no valid name, text or secret, and PostgreSQL cannot store it."""
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
    """Base of responses. Clients must ignore unknown fields."""

    model_config = ConfigDict(
        extra="ignore", json_schema_serialization_defaults_required=True, defer_build=True
    )


class Page(Shown, Generic[T]):
    """One page of a list; ``after``: cursor of the next page, or null."""

    items: list[T]
    after: str | None = None


class Problem(Shown):
    """RFC 9457. ``type`` is stable; ``field`` names the faulty field; other members depend on the
    type.
    """

    model_config = ConfigDict(extra="allow")

    type: str
    title: str
    status: int
    detail: str
    remedy: str
    field: str | None = None
