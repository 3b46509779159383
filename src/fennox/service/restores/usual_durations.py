"""Usual durations of a kind's steps, from proved restores."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from statistics import median

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.core.restoring.sheet import Sheet

_MOST = 20  # sheets; older ones say little about today's machines


async def foretell(session: AsyncSession, sheet: Sheet) -> None:
    """Set how long each step usually takes, from the newest proved restores of its kind."""
    earlier = (
        select(SheetRow)
        .where(SheetRow.data["kind"].astext == sheet.kind, SheetRow.state == "proved")
        .order_by(SheetRow.created.desc())
        .limit(_MOST)
    )
    foretell_from(sheet, [row.data for row in (await session.execute(earlier)).scalars()])


def foretell_from(sheet: Sheet, earlier: Iterable[Sheet]) -> None:
    """The median of the steps of the same title. A gate has none: a person answers it."""
    known: dict[str, list[float]] = defaultdict(list)
    for one in earlier:
        for step in one.steps:
            if step.state == "done" and step.started is not None and step.ended is not None:
                known[step.title].append((step.ended - step.started).total_seconds())
    for step in sheet.steps:
        if step.do != "gate" and step.title in known:
            step.usually = round(median(known[step.title]), 1)
