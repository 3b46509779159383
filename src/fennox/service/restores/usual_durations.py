"""Usual durations of a kind's steps, from proved restores."""

from __future__ import annotations

from collections import defaultdict
from statistics import median

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.core.restoring.sheet import Sheet

_MOST = 20  # sheets; older ones say little about today's machines


async def foretell(session: AsyncSession, sheet: Sheet) -> None:
    """Set each step's usual duration. A gate has none: a person answers it."""
    known = await _durations(session, sheet.kind)
    for step in sheet.steps:
        if step.do != "gate" and step.title in known:
            step.usually = round(median(known[step.title]), 1)


async def _durations(session: AsyncSession, kind: str) -> dict[str, list[float]]:
    """Seconds by the title of the step."""
    earlier = (
        select(SheetRow)
        .where(SheetRow.data["kind"].astext == kind, SheetRow.state == "proved")
        .order_by(SheetRow.created.desc())
        .limit(_MOST)
    )
    found: dict[str, list[float]] = defaultdict(list)
    for row in (await session.execute(earlier)).scalars():
        for step in row.data.steps:
            if step.state == "done" and step.started is not None and step.ended is not None:
                found[step.title].append((step.ended - step.started).total_seconds())
    return found
