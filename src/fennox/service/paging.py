"""Cursor pages: the key of the last item, opaque to the caller."""

from __future__ import annotations

import base64
import json
from datetime import datetime
from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import ColumnElement, Select, tuple_
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import InstrumentedAttribute

from fennox.core.errors import BadInput

Limit = Annotated[int, Query(ge=1, le=500, description="Items on a page.")]
After = Annotated[str | None, Query(description="The cursor of the page before.", max_length=400)]


async def in_order_of(
    session: AsyncSession,
    query: Select[Any],
    key: ColumnElement[Any],
    name: InstrumentedAttribute[str],
    limit: int,
    after: str | None,
    *,
    down: bool,
) -> tuple[list[Any], str | None]:
    """A page of rows by a key and, where that is the same, by name; and the cursor of the next page."""
    if after is not None:
        place = tuple_(key, name)
        last_key, last_name = _place(after)
        query = query.where(place < (last_key, last_name) if down else place > (last_key, last_name))
    order = (key.desc(), name.desc()) if down else (key, name)
    found = (await session.execute(query.add_columns(key.label("key")).order_by(*order).limit(limit + 1))).all()
    rows = [row[0] for row in found[:limit]]
    if len(found) <= limit:
        return rows, None
    last = found[limit - 1]
    key_text = last.key.isoformat() if isinstance(last.key, datetime) else str(last.key)
    moment = isinstance(last.key, datetime)
    return rows, _packed([key_text, getattr(last[0], name.key), moment])


def _place(cursor: str) -> tuple[object, str]:
    try:
        key, name, moment = json.loads(base64.urlsafe_b64decode(cursor))
        return datetime.fromisoformat(key) if moment else str(key), str(name)
    except (ValueError, TypeError) as error:
        raise _not_ours() from error


def _packed(values: list[object]) -> str:
    return base64.urlsafe_b64encode(json.dumps(values).encode()).decode()


def _not_ours() -> BadInput:
    return BadInput("The cursor is not one of ours.", "Begin at the first page.", field="after")


def _decode(cursor: str, length: int) -> tuple[object, ...]:
    try:
        moment, *others = json.loads(base64.urlsafe_b64decode(cursor))
        if len(others) != length - 1 or any(not isinstance(other, str | int) for other in others):
            raise _not_ours()
        return datetime.fromisoformat(moment), *others
    except (ValueError, TypeError) as error:
        raise _not_ours() from error


async def newest_first(
    session: AsyncSession,
    query: Select[Any],
    moment: InstrumentedAttribute[datetime],
    row_id: InstrumentedAttribute[str],
    limit: int,
    after: str | None,
    then: InstrumentedAttribute[int] | None = None,
) -> tuple[list[Any], str | None]:
    """A page of rows, newest first, and the cursor of the next page. ``then``: what tells those of one moment apart."""
    columns = [moment, *([then] if then is not None else []), row_id]
    if after is not None:
        query = query.where(tuple_(*columns) < _decode(after, len(columns)))
    order = [column.desc() for column in columns]
    rows = list((await session.execute(query.order_by(*order).limit(limit + 1))).scalars())
    if len(rows) <= limit:
        return rows, None
    last = rows[limit - 1]
    return rows[:limit], _packed([getattr(last, moment.key).isoformat(), *(getattr(last, c.key) for c in columns[1:])])
