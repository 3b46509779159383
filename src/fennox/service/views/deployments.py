"""New machines as the API shows them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import DeploymentRow
from fennox.service.deployments.requests import deployment_of
from fennox.service.queries.paging import newest_first
from fennox.wire.base import Page
from fennox.wire.machines.deployments import DeploymentListed, DeploymentShown


async def shown(session: AsyncSession, row: DeploymentRow) -> DeploymentShown:
    data = await deployment_of(session, row)
    return DeploymentShown(
        id=row.id,
        backup=row.backup_id,
        created=row.created,
        by=row.by,
        run=row.run_id,
        deployment=data,
        acts=data.acts(),
    )


async def page(session: AsyncSession, limit: int, after: str | None) -> Page[DeploymentListed]:
    """Newest first."""
    rows, cursor = await newest_first(
        session, select(DeploymentRow), [DeploymentRow.created, DeploymentRow.id], limit, after
    )
    items = []
    for row in rows:
        data = await deployment_of(session, row)
        items.append(
            DeploymentListed(
                id=row.id,
                system=data.system_name,
                host=data.host_name,
                name=data.name,
                state=data.state,
                address=data.address,
                created=row.created,
                by=row.by,
            )
        )
    return Page(items=items, after=cursor)
