"""Run sheets as the API shows them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.core.restoring import purposes
from fennox.service.machines import login_uses
from fennox.service.queries.paging import newest_first
from fennox.service.restores.requests import run_of, sheet_of
from fennox.wire.base import Page
from fennox.wire.restores import RestoreShown, SheetShown


async def shown(session: AsyncSession, row: SheetRow) -> SheetShown:
    """Raises NotAllowed for a sheet that shows a system outside of the reader's scope."""
    run = await run_of(session, row)
    sheet = sheet_of(row)
    await login_uses.must_be_shown(session, sheet)
    return SheetShown(
        id=row.id,
        created=row.created,
        by=row.by,
        run=run.id if run else None,
        sheet=sheet,
        acts=sheet.acts(),
        blockers=len(sheet.blockers()),
        estate_afterwards=purposes.estate_afterwards(sheet),
        expected_seconds=sheet.expected_seconds(),
        to_undo=sheet.to_undo(),
        in_force=sheet.in_force(),
        staying=sheet.staying(),
    )


async def page(session: AsyncSession, limit: int, after: str | None) -> Page[RestoreShown]:
    """Newest first."""
    rows, cursor = await newest_first(
        session, select(SheetRow), [SheetRow.created, SheetRow.id], limit, after
    )
    items = []
    for row in rows:
        run = await run_of(session, row)
        sheet = sheet_of(row)
        items.append(
            RestoreShown(
                id=row.id,
                system=sheet.system_name,
                backup=row.backup_id,
                purpose=sheet.purpose,
                target=sheet.spare or sheet.target.address,
                state=row.state,
                created=row.created,
                by=row.by,
                run=run.id if run else None,
                proved=sheet.proof.proved if sheet.proof else None,
                awaits_acceptance=sheet.awaits_acceptance(),
            )
        )
    return Page(items=items, after=cursor)
