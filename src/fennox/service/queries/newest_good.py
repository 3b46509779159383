"""Queries answered from an index, however long the history: each system's newest row, an id by its
prefix.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from sqlalchemy import ARRAY, ColumnElement, Select, String, and_, any_, literal, select, true
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import InstrumentedAttribute

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import ACTIVE, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.format import records
from fennox.core.names import ObjectName
from fennox.core.time import stamp
from fennox.service.foundation.fair_share import give_way

_AT_ONCE = 500  # rows

Fits = Sequence[ColumnElement[bool]]

GOOD: Fits = (
    Backup.purpose == constant("backup"),
    Backup.doubtful.is_(False),
    Backup.partial.is_(False),
)
"""A backup that a restore would rely on: of all essential parts, and nobody doubts it."""
ONLY_PARTIAL: Fits = (
    Backup.purpose == constant("backup"),
    Backup.doubtful.is_(False),
    Backup.partial.is_(True),
)
ENDED: Fits = (Run.state.not_in(ACTIVE),)


def newest_backup(
    *columns: InstrumentedAttribute[Any] | ColumnElement[Any], fits: Fits = GOOD
) -> Select[Any]:
    """Columns of the newest backup of the enclosing query's system. The newest is the last one
    taken, whatever its date.
    """
    mine = select(*columns).where(Backup.system_id == System.id, *fits).limit(1)
    return mine.order_by(Backup.sequence.desc()).correlate(System)


def newest_run(
    *columns: InstrumentedAttribute[Any] | ColumnElement[Any], fits: Fits = ENDED
) -> Select[Any]:
    """As :func:`newest_backup`, of runs."""
    mine = select(*columns).where(Run.system_id == System.id, *fits).limit(1)
    return mine.order_by(Run.created.desc()).correlate(System)


def newest_backups(
    *columns: InstrumentedAttribute[Any] | ColumnElement[Any], fits: Fits = GOOD
) -> Select[Any]:
    """System id and these columns of each system's newest backup."""
    return _of_each(newest_backup(*columns, fits=fits))


def newest_runs(
    *columns: InstrumentedAttribute[Any] | ColumnElement[Any], fits: Fits = ENDED
) -> Select[Any]:
    """As :func:`newest_backups`, of runs."""
    return _of_each(newest_run(*columns, fits=fits))


async def newest_record(session: AsyncSession, store: StoreRow) -> ObjectName | None:
    """The name of the last undamaged record put into a store, whatever its date."""
    newest = (
        select(Backup.id, Backup.time, Backup.name, System.folder)
        .select_from(Copy)
        .join(Backup)
        .join(System)
        .where(Copy.store_id == store.id, Copy.damaged == constant(""))
        .order_by(Copy.number.desc())
        .limit(1)
    )
    row = (await session.execute(newest)).one_or_none()
    if row is None:
        return None
    return records.name_of(row.folder, stamp(row.time), row.name, row.id, store.generation)


async def unhurried(
    session: AsyncSession,
    query: Select[*tuple[Any, ...]],
    by: InstrumentedAttribute[str] = System.id,
) -> list[Any]:
    """All rows of a long result in batches, yielding the thread in between. Ordered by ``by``,
    which is the row's first column or the id of that row.
    """
    found: list[Any] = []
    last = ""
    while True:
        await give_way(session)
        part = (await session.execute(query.where(by > last).order_by(by).limit(_AT_ONCE))).all()
        found += part
        if len(part) < _AT_ONCE:
            return found
        last = part[-1][0] if isinstance(part[-1][0], str) else getattr(part[-1][0], by.key)


def begins(column: InstrumentedAttribute[str], text: str) -> ColumnElement[bool]:
    """A condition for a hexadecimal id prefix that an index answers under any collation."""
    return and_(column >= text, column < text + "g")


def among(
    column: InstrumentedAttribute[Any], values: Collection[str | None]
) -> ColumnElement[bool]:
    """A membership condition with a single array parameter, so that the statement stays
    the same.
    """
    return column == any_(literal(list(values), ARRAY(String)))


def _of_each(newest: Select[Any]) -> Select[Any]:
    one = newest.lateral("newest")
    return select(System.id.label("system"), *one.c).join(one, true())
