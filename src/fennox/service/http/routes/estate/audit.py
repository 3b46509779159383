"""The audit: who did what, from where, and what was refused."""

from __future__ import annotations

from datetime import datetime

from fastapi import APIRouter
from sqlalchemy import select

from fennox.catalogue.models.people import Audit
from fennox.service.http.routes.people.session import Here
from fennox.service.own_state import audit_chain
from fennox.service.queries.paging import Limit
from fennox.wire.access import AuditChecked, AuditEntry
from fennox.wire.base import Page

router = APIRouter(tags=["audit"])


@router.get("/audit")
async def audit(
    context: Here,
    limit: Limit = 100,
    before: int | None = None,
    by: str | None = None,
    noun: str | None = None,
    about: str | None = None,
    action: str | None = None,
    address: str | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
) -> Page[AuditEntry]:
    """Who did what, newest first; by person, noun, the name it is about, part of the action,
    address and time.
    """
    query = select(Audit).order_by(Audit.id.desc()).limit(limit + 1)
    exact = [(Audit.by, by), (Audit.noun, noun), (Audit.name, about), (Audit.address, address)]
    query = query.where(*(column == given for column, given in exact if given is not None))
    if before is not None:
        query = query.where(Audit.id < before)
    if since is not None:
        query = query.where(Audit.at >= since)
    if until is not None:
        query = query.where(Audit.at < until)
    if action is not None:
        query = query.where(Audit.action.contains(action, autoescape=True))
    async with context.session() as session:
        rows = list((await session.execute(query)).scalars())
    items = [
        AuditEntry(
            id=row.id,
            at=row.at,
            by=row.by,
            action=row.action,
            noun=row.noun,
            name=row.name,
            details=row.details,
            address=row.address,
            place=row.place,
            digest=row.digest,
        )
        for row in rows[:limit]
    ]
    return Page(items=items, after=str(items[-1].id) if len(rows) > limit else None)


@router.get("/audit/check")
async def check_audit(context: Here) -> AuditChecked:
    """Compute the chain of all entries anew, and hold it against the newest backup of Fennox
    itself.
    """
    found = await audit_chain.check(context)
    return AuditChecked(
        entries=found.entries,
        faults=found.faults,
        backup=found.backup,
        held=found.held,
        not_checked=found.not_checked,
    )
