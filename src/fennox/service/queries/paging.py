"""Cursor pages: the key of the last item, opaque to the caller."""

from __future__ import annotations

import base64
import json
from collections.abc import Sequence
from datetime import datetime
from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import ColumnElement, Select, tuple_
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import InstrumentedAttribute

from fennox.core.errors import BadInput

Key = ColumnElement[Any] | InstrumentedAttribute[Any]
Limit = Annotated[int, Query(ge=1, le=500, description="Items on a page.")]
After = Annotated[str | None, Query(description="The cursor of the page before.", max_length=400)]


async def in_order_of(
    session: AsyncSession,
    query: Select[Any],
    keys: Sequence[Key],
    limit: int,
    after: str | None,
    *,
    down: bool = False,
) -> tuple[list[Any], str | None]:
    """A page of rows by these keys, which are unique together, and the cursor of the next page."""
    if after is not None:
        place, last = tuple_(*keys), _unpacked(after, keys)
        query = query.where(place < last if down else place > last)
    order = [key.desc() for key in keys] if down else keys
    query = query.add_columns(*(key.label(f"key_{number}") for number, key in enumerate(keys)))
    found = (await session.execute(query.order_by(*order).limit(limit + 1))).all()
    more = len(found) > limit
    return [row[0] for row in found[:limit]], _packed(found[limit - 1][1:]) if more else None


async def newest_first(
    session: AsyncSession, query: Select[Any], keys: Sequence[Key], limit: int, after: str | None
) -> tuple[list[Any], str | None]:
    """As :func:`in_order_of`, by a moment and then by a unique key, the latest first."""
    return await in_order_of(session, query, keys, limit, after, down=True)


def _packed(place: Sequence[object]) -> str:
    values = [value.isoformat() if isinstance(value, datetime) else value for value in place]
    return base64.urlsafe_b64encode(json.dumps(values).encode()).decode()


def _unpacked(cursor: str, keys: Sequence[Key]) -> tuple[object, ...]:
    try:
        values = json.loads(base64.urlsafe_b64decode(cursor))
        return tuple(
            _as(key.type.python_type, value) for key, value in zip(keys, values, strict=True)
        )
    except (ValueError, TypeError) as error:
        raise BadInput(
            "The cursor is not one of ours.", "Begin at the first page.", field="after"
        ) from error


def _as(kind: type, value: object) -> object:
    if kind is datetime:
        return datetime.fromisoformat(str(value))
    if type(value) is not kind:
        raise TypeError(f"not {kind.__name__}")
    return value
