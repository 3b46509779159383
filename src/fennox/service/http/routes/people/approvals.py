"""Approvals: pending ones, and which acts need them."""

from __future__ import annotations

from datetime import datetime

from fastapi import Request

from fennox.catalogue.models.people import Approval
from fennox.service.access_control import approvals, audit
from fennox.service.http import rights
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.people import grave_acts
from fennox.service.people.persons import Person
from fennox.wire.access import (
    Act,
    ApprovalActs,
    ApprovalActsShown,
    ApprovalShown,
    Decision,
    NamedValue,
    Role,
)
from fennox.wire.base import Page

router = api_router("approvals")

_RIGHT_OF: dict[str, Role] = {
    "export": "administrator",
    "content": "operator",
}  # roles that have the right implicitly


def _needed(operation: str) -> Role:
    """The role that may approve an operation: the one that may do it."""
    right = rights.RIGHTS.get(operation)
    needed = _RIGHT_OF[right] if right is not None else rights.TABLE[operation]
    assert needed != "nobody"
    return needed


NEEDED: dict[Act, Role] = {
    one.act: max(
        (
            _needed(name)
            for name, other in grave_acts.TABLE.items()
            if other.act == one.act and other.approved
        ),
        key=["reader", "auditor", "operator", "administrator"].index,
    )
    for one in grave_acts.TABLE.values()
}
"""Group of acts → the role that may approve all of them."""


def _shown(row: Approval, who: Person, now: datetime) -> ApprovalShown:
    over = row.state in ("asked", "granted") and row.until <= now
    return ApprovalShown(
        id=row.id,
        by=row.by,
        act=row.act,
        operation=row.operation,
        about=row.about,
        shown=[NamedValue(name=name, value=value) for name, value in row.shown],
        sheet=row.sheet_id,
        at=row.at,
        until=row.until,
        state="ended" if over else row.state,
        decided_by=row.decided_by,
        decided=row.decided,
        because=row.because,
        mine=row.user_id == who.id,
    )


def _sees(who: Person, row: Approval) -> bool:
    return row.user_id == who.id or who.may("auditor") or who.may(_needed(row.operation))


@router.get("/approvals")
async def list_approvals(who: Who, context: Here, all: bool = False) -> Page[ApprovalShown]:
    """Pending approvals, oldest first; or `all`, newest first."""
    async with context.session() as session:
        now = await approvals.database_now(session)
        rows = await approvals.listed(session, ended_too=all)
    return Page(items=[_shown(row, who, now) for row in rows if _sees(who, row)])


@router.get("/approvals/{approval}")
async def show_approval(approval: str, who: Who, context: Here) -> ApprovalShown:
    """One approval with the full request."""
    async with context.session() as session:
        now = await approvals.database_now(session)
        row = await approvals.found(session, approval)
    if not _sees(who, row):
        raise approvals.not_there(approval)
    return _shown(row, who, now)


@router.post("/approvals/{approval}/grant")
async def grant_approval(
    approval: str, request: Request, who: Who, context: Here, wanted: Decision | None = None
) -> ApprovalShown:
    """Grant: the other person may do exactly this, once, within an hour."""
    return await _decide(approval, request, who, context, wanted or Decision(), grant=True)


@router.post("/approvals/{approval}/refuse")
async def refuse_approval(
    approval: str, request: Request, who: Who, context: Here, wanted: Decision | None = None
) -> ApprovalShown:
    """Refuse, with a reason."""
    return await _decide(approval, request, who, context, wanted or Decision(), grant=False)


async def _decide(
    approval: str, request: Request, who: Person, context: Here, wanted: Decision, *, grant: bool
) -> ApprovalShown:
    async with context.session() as session:
        now = await approvals.database_now(session)
        row = await approvals.found(session, approval)
        if not _sees(who, row):
            raise approvals.not_there(approval)
        await approvals.decide(
            session, who, row, _needed(row.operation), grant=grant, because=wanted.because
        )
        await audit.note(
            session,
            request,
            "granted" if grant else "refused",
            "approval",
            row.id[:12],
            of=row.by,
            operation=row.operation,
            about=row.about,
            because=wanted.because,
        )
        return _shown(row, who, now)


@router.get("/approval-acts")
async def approval_acts(context: Here) -> ApprovalActsShown:
    """Groups of grave acts that need a second person."""
    async with context.session() as session:
        return ApprovalActsShown(acts=await approvals.acts(session))


@router.put("/approval-acts")
async def set_approvals(wanted: ApprovalActs, request: Request, context: Here) -> ApprovalActsShown:
    """Choose which groups need a second person. If any group does, this change needs approval too.
    `people` is always included with others: otherwise one person could add a second one alone.
    """
    acts: list[Act] = list(dict.fromkeys([*wanted.acts, "people"])) if wanted.acts else []
    async with context.session() as session:
        before = await approvals.set_acts(session, acts, NEEDED)
        await audit.note(
            session,
            request,
            "changed",
            "approvals",
            "all",
            acts=f"{', '.join(before) or 'none'} → {', '.join(acts) or 'none'}",
        )
    return ApprovalActsShown(acts=acts)
