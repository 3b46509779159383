"""The catalogue: what Fennox knows. The database holds the invariants; the stores hold the backups
themselves.
"""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    DateTime,
    LargeBinary,
    String,
    literal_column,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncAttrs
from sqlalchemy.orm import DeclarativeBase

OR_NULL = JSONB(none_as_null=True)  # None is SQL's null, not JSON's


def constant(word: str) -> ColumnElement[str]:
    """A constant written into the statement as a literal. A cached plan can then still match a
    partial index.
    """
    return literal_column(f"'{word}'", String)


class Base(AsyncAttrs, DeclarativeBase):
    type_annotation_map = {
        datetime: DateTime(timezone=True),
        dict[str, str]: JSONB,
        dict[str, list[str]]: JSONB,
        dict[str, dict[str, str]]: JSONB,
        dict[str, tuple[int, float]]: JSONB,
        list[str]: JSONB,
        int: BigInteger,
        bytes: LargeBinary,
        str: String,
    }
