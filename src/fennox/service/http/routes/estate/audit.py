"""The audit: who did what, from where, including refused requests."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import Depends

from fennox.service.access_control.audit import AuditFilter, page
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here
from fennox.service.own_state import audit_chain
from fennox.service.queries.paging import Limit
from fennox.wire.access import AuditChecked, AuditEntry
from fennox.wire.base import Page

router = api_router("audit")


def _filter(
    by: str | None = None,
    noun: str | None = None,
    about: str | None = None,
    action: str | None = None,
    address: str | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
) -> AuditFilter:
    return AuditFilter(by, noun, about, action, address, since, until)


@router.get("/audit")
async def audit(
    context: Here,
    chosen: Annotated[AuditFilter, Depends(_filter)],
    limit: Limit = 100,
    before: int | None = None,
) -> Page[AuditEntry]:
    """Audit entries, newest first; filter by person, noun, name, action, address and time."""
    async with context.session() as session:
        return await page(session, chosen, limit, before)


@router.get("/audit/check")
async def check_audit(context: Here) -> AuditChecked:
    """Recompute the whole audit chain and compare it with Fennox's own newest backup."""
    found = await audit_chain.check(context)
    return AuditChecked(
        entries=found.entries,
        faults=found.faults,
        backup=found.backup,
        held=found.held,
        not_checked=found.not_checked,
    )
