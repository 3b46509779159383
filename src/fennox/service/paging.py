"""Cursor pages: the key of the last item, opaque to the caller."""

from __future__ import annotations

import base64
import json
from datetime import datetime
from typing import Annotated, Any

from fastapi import Query
from sqlalchemy import Select, tuple_
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import InstrumentedAttribute

from fennox.core.errors import BadInput

Limit = Annotated[int, Query(ge=1, le=500, description="Items on a page.")]
After = Annotated[str | None, Query(description="The cursor of the page before.", max_length=400)]


def _encode(moment: datetime, row_id: str) -> str:
    return base64.urlsafe_b64encode(json.dumps([moment.isoformat(), row_id]).encode()).decode()


def _decode(cursor: str) -> tuple[datetime, str]:
    try:
        moment, row_id = json.loads(base64.urlsafe_b64decode(cursor))
        return datetime.fromisoformat(moment), str(row_id)
    except (ValueError, TypeError) as error:
        raise BadInput("The cursor is not one of ours.", "Begin at the first page.", field="after") from error


async def newest_first(
    session: AsyncSession,
    query: Select[Any],
    moment: InstrumentedAttribute[datetime],
    row_id: InstrumentedAttribute[str],
    limit: int,
    after: str | None,
) -> tuple[list[Any], str | None]:
    """A page of rows, newest first, and the cursor of the next page."""
    if after is not None:
        query = query.where(tuple_(moment, row_id) < _decode(after))
    rows = list((await session.execute(query.order_by(moment.desc(), row_id.desc()).limit(limit + 1))).scalars())
    if len(rows) <= limit:
        return rows, None
    last = rows[limit - 1]
    return rows[:limit], _encode(getattr(last, moment.key), getattr(last, row_id.key))
