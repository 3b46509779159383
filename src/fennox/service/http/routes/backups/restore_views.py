"""Run sheets as the API shows them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Run, SheetRow
from fennox.core.restoring.sheet import Sheet
from fennox.service.machines import login_uses
from fennox.service.people import scopes
from fennox.wire.restores import SheetShown


async def run_of(session: AsyncSession, sheet: SheetRow) -> Run | None:
    runs = (
        select(Run)
        .where(Run.sheet_id == sheet.id, Run.kind == "restore")
        .order_by(Run.created.desc())
        .limit(1)
    )
    return (await session.execute(runs)).scalars().first()


async def shown(session: AsyncSession, row: SheetRow) -> SheetShown:
    run = await run_of(session, row)
    sheet = sheet_of(row)
    if scopes.is_narrow():
        sheet.findings = login_uses.unnamed(sheet.findings)
    return SheetShown(
        id=row.id, created=row.created, by=row.by, run=run.id if run else None, sheet=sheet
    )


def sheet_of(row: SheetRow) -> Sheet:
    """The row knows how a restore ended whose worker could not write it into the sheet."""
    return row.data.model_copy(update={"state": row.state}, deep=True)
