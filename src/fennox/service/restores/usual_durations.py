"""Usual durations of a kind's steps, from proved restores."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from statistics import median

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.core.restoring.sheet import Sheet

_LONGEST = 86400  # seconds; a clock that was set by days would foretell days
_MOST = 20  # sheets; older ones say little about today's machines


async def foretell(session: AsyncSession, sheet: Sheet) -> None:
    """Set how long each step usually takes, from the newest proved restores of its kind."""
    earlier = (
        select(SheetRow)
        .where(SheetRow.data["kind"].astext == sheet.kind, SheetRow.was_proved())
        .order_by(SheetRow.created.desc())
        .limit(_MOST)
    )
    foretell_from(sheet, [row.data for row in (await session.execute(earlier)).scalars()])


def foretell_from(sheet: Sheet, earlier: Iterable[Sheet]) -> None:
    """The median of the steps of the same title. A gate has none: a person answers it. Spans within
    which a clock was set are left out as far as that shows.
    """
    known: dict[str, list[float]] = defaultdict(list)
    for one in earlier:
        for step in one.steps:
            if step.state != "done" or step.started is None or step.ended is None:
                continue
            seconds = (step.ended - step.started).total_seconds()
            if 0 <= seconds <= _LONGEST:
                known[step.title].append(seconds)
    for step in sheet.steps:
        if step.do != "gate" and step.title in known:
            step.usually = round(median(known[step.title]), 1)
