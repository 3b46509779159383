"""Runs as the API shows them."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import ACTIVE, IS_ACTIVE, Routine, Run, RunLog, RunStep
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.schedule import moments
from fennox.service.machines.context import Context, named
from fennox.service.queries.newest_good import among
from fennox.service.queries.paging import newest_first
from fennox.service.runs.outcomes import outcome
from fennox.wire.base import Page
from fennox.wire.watch.runs import LogLine, RunShown, StepShown

_PAGE = 500  # log lines


async def _expected_seconds(session: AsyncSession, run: Run) -> float | None:
    """The median duration of earlier runs of the same kind on the same system; None: the run has
    ended, or had no predecessor.
    """
    if run.state not in ACTIVE:
        return None
    seconds = func.extract("epoch", Run.ended - Run.started)
    median = func.percentile_cont(0.5).within_group(seconds)
    query = select(median).where(
        Run.kind == run.kind, Run.system_id == run.system_id, Run.state == constant("done")
    )
    found = (await session.execute(query)).scalar_one_or_none()
    return float(found) if found is not None else None


async def _waits_for(session: AsyncSession, run: Run, system: System | None) -> str:
    active = select(Run, func.now()).where(
        Run.system_id == run.system_id, IS_ACTIVE, Run.behind.is_(None)
    )
    row = (await session.execute(active)).first()
    if row is None or run.state != "queued":
        return ""
    other, now = row
    since = other.started or other.queued_at
    how = {"queued": "queued", "running": "begun", "waiting": "which waits for a person, begun"}[
        other.state
    ]
    ago = (
        f"{moments.span(max(now - since, timedelta()))} ago"
        if moments.past(since, now)
        else "at an unknown time"
    )
    return f"Waiting for a {other.kind} of {system.name if system else 'the system'}, {how} {ago}."


async def _steps(session: AsyncSession, run: Run) -> list[StepShown]:
    rows = select(RunStep).where(RunStep.run_id == run.id).order_by(RunStep.id)
    return [
        StepShown(title=row.title, started=row.started, ended=row.ended, attempt=row.attempt)
        for row in (await session.execute(rows)).scalars()
    ]


async def fresh(context: Context, session: AsyncSession, run: Run) -> RunShown:
    """As in the database after this transaction's changes."""
    await session.flush()
    await session.refresh(run)
    return await run_shown(context, session, run)


async def run_shown(
    context: Context, session: AsyncSession, run: Run, *, whole: bool = True
) -> RunShown:
    system = await session.get(System, run.system_id) if run.system_id else None
    store = await session.get(StoreRow, run.store_id) if run.store_id else None
    routine = await session.get(Routine, run.routine_id) if run.routine_id else None
    return RunShown(
        id=run.id,
        kind=run.kind,
        state=run.state,
        system=system.name if system else None,
        store=store.name if store else None,
        routine=routine.name if routine else None,
        backup=run.backup_id,
        sheet=run.sheet_id,
        by=run.by,
        created=run.created,
        started=run.started,
        ended=run.ended,
        attempt=run.attempt,
        stop_asked=run.stop_asked,
        wants_passphrase=run.worker_key is not None and run.sealed_opening_key is None,
        waits_for=await _waits_for(session, run, system) if run.behind is not None else "",
        reason=run.reason,
        remedy=run.remedy,
        problem=run.problem,
        step=run.step,
        documents=run.documents,
        bytes=run.size,
        expected_seconds=await _expected_seconds(session, run) if whole else None,
        outcome=outcome(run),
        odd=run.odd,
        steps=await _steps(session, run) if whole else [],
        result=run.result,
    )


async def page(
    context: Context,
    session: AsyncSession,
    *,
    system: str | None,
    state: str | None,
    kind: str | None,
    limit: int,
    after: str | None,
) -> Page[RunShown]:
    """Newest first; ``state``: one state, or ``active`` for all that have not ended."""
    query = select(Run)
    if system is not None:
        query = query.where(Run.system_id == (await named(session, System, system)).id)
    if state is not None:
        query = query.where(IS_ACTIVE if state == "active" else Run.state == state)
    if kind is not None:
        query = query.where(Run.kind == kind)
    rows, cursor = await newest_first(session, query, [Run.created, Run.id], limit, after)
    systems = select(System).where(among(System.id, {row.system_id for row in rows}))
    # keeps these objects alive, so that they are found by id below
    at_hand = [
        (await session.execute(every)).scalars().all()
        for every in (systems, select(StoreRow), select(Routine))
    ]
    items = [await run_shown(context, session, row, whole=False) for row in rows]
    del at_hand
    return Page(items=items, after=cursor)


async def log_lines(session: AsyncSession, run_id: str, behind: int) -> list[LogLine]:
    """The next page of lines with an id greater than ``behind``."""
    rows = (
        select(RunLog)
        .where(RunLog.run_id == run_id, RunLog.id > behind)
        .order_by(RunLog.id)
        .limit(_PAGE)
    )
    return [
        LogLine(id=row.id, at=row.at, level=row.level, text=row.text)
        for row in (await session.execute(rows)).scalars()
    ]


async def log_page(session: AsyncSession, run_id: str, behind: int) -> Page[LogLine]:
    lines = await log_lines(session, run_id, behind)
    return Page(items=lines, after=str(lines[-1].id) if len(lines) == _PAGE else None)
