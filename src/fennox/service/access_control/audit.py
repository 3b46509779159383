"""Audit entries for every change, start, inspection and refusal: who, from where, when, on what."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from fastapi import Request
from sqlalchemy import Select, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Audit
from fennox.core.errors import ApprovalNeeded, FennoxError, ProofNeeded, WrongPassphrase
from fennox.service.machines.context import Context
from fennox.wire.access import AuditEntry
from fennox.wire.base import Page

_LONGEST = 500  # characters of one detail


async def note(
    session: AsyncSession, request: Request, action: str, noun: str, name: str, **details: str
) -> None:
    """Add an entry in the caller's transaction. Details never contain a secret."""
    person = getattr(request.state, "person", None)
    await note_as(session, request, person.name if person else "-", action, noun, name, **details)


async def note_as(
    session: AsyncSession,
    request: Request,
    by: str,
    action: str,
    noun: str,
    name: str,
    **details: str,
) -> None:
    """As :func:`note`, for somebody not signed in (yet)."""
    context: Context = request.app.state.context
    approval = getattr(request.state, "approval", None)
    if approval is not None:
        details["approval"] = approval[:12]
    session.add(
        Audit(
            at=context.now(),
            by=by,
            action=action,
            noun=noun,
            name=name,
            address=_address(request),
            details={key: value[:_LONGEST] for key, value in details.items()},
        )
    )


async def refused(context: Context, request: Request, operation: str, refusal: FennoxError) -> None:
    """A signed-in person requested something they may not do."""
    names = [str(value)[:64] for value in request.path_params.values()]
    match refusal:
        case ApprovalNeeded():
            action = "asks for approval of"
        case ProofNeeded():
            action = "must first prove who they are for"
        case WrongPassphrase():
            action = "gave a wrong passphrase for"
        case _:
            action = "was refused"
    async with context.session(lasting=False) as session:
        await note(
            session,
            request,
            action,
            "operation",
            operation,
            on=", ".join(names),
            because=refusal.what,
        )


async def not_signed_in(context: Context, request: Request, operation: str) -> None:
    """A request that needs a session came without a valid one."""
    count = context.strangers.to_tell(_address(request))
    if count is None:
        return
    more = {"times": f"{count}, since the last such entry of this address"} if count > 1 else {}
    async with context.session(lasting=False) as session:
        await note(session, request, "was not signed in for", "operation", operation, **more)


def _address(request: Request) -> str:
    return request.client.host if request.client else ""


@dataclass(frozen=True)
class AuditFilter:
    """``action``: a substring of it."""

    by: str | None = None
    noun: str | None = None
    about: str | None = None
    action: str | None = None
    address: str | None = None
    since: datetime | None = None
    until: datetime | None = None

    def __call__(self, query: Select[Audit]) -> Select[Audit]:
        exact = [
            (Audit.by, self.by),
            (Audit.noun, self.noun),
            (Audit.name, self.about),
            (Audit.address, self.address),
        ]
        query = query.where(*(column == given for column, given in exact if given is not None))
        if self.since is not None:
            query = query.where(Audit.at >= self.since)
        if self.until is not None:
            query = query.where(Audit.at < self.until)
        if self.action is not None:
            query = query.where(Audit.action.contains(self.action, autoescape=True))
        return query


async def page(
    session: AsyncSession, chosen: AuditFilter, limit: int, before: int | None
) -> Page[AuditEntry]:
    """Newest first; ``before``: only entries with a smaller id."""
    query = chosen(select(Audit)).order_by(Audit.id.desc()).limit(limit + 1)
    if before is not None:
        query = query.where(Audit.id < before)
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
