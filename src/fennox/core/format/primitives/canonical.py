"""Canonical JSON (§1.2): UTF-8, keys sorted by code point, no white space, whole numbers only."""

from __future__ import annotations

import json
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from fennox.core.errors import Damaged


class Stored(BaseModel):
    """Base of what is stored as canonical JSON. Unknown fields are kept through reading and writing
    (§1.2).
    """

    model_config = ConfigDict(extra="allow", frozen=True, defer_build=True)


StoredT = TypeVar("StoredT", bound=BaseModel)


_encoder = json.JSONEncoder(
    sort_keys=True, separators=(",", ":"), ensure_ascii=False, allow_nan=False
)


def _refuse_float(text: str) -> None:
    raise ValueError(f"{text} is not a whole number")


def dump_value(value: Any) -> bytes:
    return _encoder.encode(value).encode()


def dump(model: BaseModel) -> bytes:
    return dump_value(model.model_dump(mode="json"))


def load(model: type[StoredT], data: bytes, what: str) -> StoredT:
    """Parse and check; anything that is not canonical JSON of this model is damage."""
    try:
        value = json.loads(data, parse_float=_refuse_float, parse_constant=_refuse_float)
        return model.model_validate(value)
    except (ValueError, RecursionError, ValidationError) as error:
        kind = type(error).__name__
        raise Damaged(
            f"The {what} cannot be read ({kind}).", "Heal it from another copy."
        ) from error
