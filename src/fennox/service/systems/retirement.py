"""Retiring systems, and letting routines take them again."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import IS_ACTIVE, Run
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.service.machines.context import Context
from fennox.service.systems import enrolment
from fennox.wire.machines.enrolling import Retired


async def retire(context: Context, session: AsyncSession, row: System, wanted: Retired) -> None:
    """``row`` is locked."""
    enrolment.must_not_be_own(row)
    await enrolment.must_be_at_rest(session, row)
    if row.retired is not None and row.let_go == wanted.let_go:
        raise Conflict(
            f"{row.name} is retired already.",
            "Bring it back with `fennox system resume`, or let its backups go.",
        )
    row.retired = row.retired or context.now()
    row.retired_because, row.let_go = wanted.because.strip(), wanted.let_go


async def resume(session: AsyncSession, row: System) -> dict[str, str]:
    """``row`` is locked. Returns what it was, for the audit."""
    if not row.suspended_because and not row.left_open and row.retired is None:
        raise Conflict(
            f"{row.name} is neither suspended nor retired.", "There is nothing to resume."
        )
    active = select(Run).where(Run.system_id == row.id, Run.kind == "restore", IS_ACTIVE)
    if (await session.execute(active)).first() is not None:
        raise Conflict(f"A restore of {row.name} is active.", "Finish or stop it first.")
    if row.retired is not None:
        await enrolment.must_be_free(session, row.name, row.address, row.site, row.id)
    was = {
        "was": row.suspended_because or row.retired_because,
        "left_open": ", ".join(row.left_open),
    }
    row.suspended_because, row.left_open = "", []
    row.retired, row.retired_because, row.let_go = None, "", False
    return was
