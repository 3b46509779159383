"""Runs: what they do, how far they are, stopping them, and handing a passphrase to one."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator
from datetime import timedelta
from itertools import chain

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import ACTIVE, IS_ACTIVE, Routine, Run, RunLog, RunStep, SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import NotFound
from fennox.core.schedule import moments
from fennox.service.access_control import audit
from fennox.service.http import access
from fennox.service.http.routes.people.session import Here
from fennox.service.keys import passphrase_relay
from fennox.service.machines.context import Context, named
from fennox.service.queries.lookups import find_run
from fennox.service.queries.newest_good import among
from fennox.service.queries.paging import After, Limit, newest_first
from fennox.service.runs import progress_log, queue
from fennox.service.runs.outcomes import outcome
from fennox.wire.base import Page
from fennox.wire.runs import LogLine, PassphraseWanted, RunShown, StepShown

router = APIRouter(tags=["runs"])

_ID = re.compile(r"[0-9a-f]{6,32}")
_LOOKING = 2  # followers for whom the database is asked at one time
_IDLE = 15.0  # seconds between signs of life on an event stream


async def _expected_seconds(session: AsyncSession, run: Run) -> float | None:
    """The median duration of earlier runs of the same kind on the same system."""
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


async def run_shown(
    context: Context, session: AsyncSession, run: Run, *, whole: bool = True
) -> RunShown:
    system = await session.get(System, run.system_id) if run.system_id else None
    store = await session.get(StoreRow, run.store_id) if run.store_id else None
    routine = await session.get(Routine, run.routine_id) if run.routine_id else None
    steps = []
    if whole:
        rows = select(RunStep).where(RunStep.run_id == run.id).order_by(RunStep.id)
        steps = [
            StepShown(title=row.title, started=row.started, ended=row.ended, attempt=row.attempt)
            for row in (await session.execute(rows)).scalars()
        ]
    waits_for = await _waits_for(session, run, system) if run.behind is not None else ""
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
        waits_for=waits_for,
        reason=run.reason,
        remedy=run.remedy,
        problem=run.problem,
        step=run.step,
        documents=run.documents,
        bytes=run.size,
        expected_seconds=(
            await _expected_seconds(session, run) if whole and run.state in ACTIVE else None
        ),
        outcome=outcome(run),
        odd=run.odd,
        steps=steps,
        result=run.result,
    )


@router.get("/runs")
async def list_runs(
    context: Here,
    system: str | None = None,
    state: str | None = None,
    kind: str | None = None,
    limit: Limit = 50,
    after: After = None,
) -> Page[RunShown]:
    """Runs, newest first; filters by system, state and kind."""
    async with context.session() as session:
        query = select(Run)
        if system is not None:
            query = query.where(Run.system_id == (await named(session, System, system)).id)
        if state is not None:
            query = query.where(IS_ACTIVE if state == "active" else Run.state == state)
        if kind is not None:
            query = query.where(Run.kind == kind)
        rows, cursor = await newest_first(session, query, [Run.created, Run.id], limit, after)
        systems = select(System).where(among(System.id, {row.system_id for row in rows}))
        # while these are held, each is found by its id below
        at_hand = [
            (await session.execute(every)).scalars().all()
            for every in (systems, select(StoreRow), select(Routine))
        ]
        found = [await run_shown(context, session, row, whole=False) for row in rows]
        del at_hand
        return Page(items=found, after=cursor)


@router.get("/runs/{run}")
async def show_run(run: str, context: Here) -> RunShown:
    """One run with its steps."""
    async with context.session() as session:
        return await run_shown(context, session, await find_run(session, run))


async def _lines(session: AsyncSession, run_id: str, behind: int) -> list[LogLine]:
    rows = (
        select(RunLog)
        .where(RunLog.run_id == run_id, RunLog.id > behind)
        .order_by(RunLog.id)
        .limit(500)
    )
    return [
        LogLine(id=row.id, at=row.at, level=row.level, text=row.text)
        for row in (await session.execute(rows)).scalars()
    ]


@router.get("/runs/{run}/log")
async def run_log(run: str, context: Here, behind: int = 0) -> Page[LogLine]:
    """The run's log lines with an id greater than ``behind``."""
    async with context.session() as session:
        lines = await _lines(session, (await find_run(session, run)).id, behind)
    return Page(items=lines, after=str(lines[-1].id) if len(lines) == 500 else None)


@router.get("/runs/{run}/events", response_class=StreamingResponse)
async def run_events(run: str, request: Request, context: Here) -> StreamingResponse:
    """Server-sent events: `run` (the run as it is now) and `log` (a line), until the run has
    ended.
    """
    async with context.session() as session:
        run_id = (await find_run(session, run)).id
    return StreamingResponse(
        _events(request, context, run_id),
        media_type="text/event-stream",
        headers={"cache-control": "no-store"},
    )


async def _events(request: Request, context: Context, run_id: str) -> AsyncIterator[str]:
    hub: RunHub = request.app.state.hub
    behind, before = 0, ""
    with hub.listening(run_id) as heard:
        while not await request.is_disconnected():
            heard.clear()
            async with hub.few_at_once:
                if not await access.is_signed_in(request, context):
                    return
                async with context.session() as session:
                    row = await find_run(session, run_id)
                    now = (await run_shown(context, session, row)).model_dump_json()
                    lines = await _lines(session, run_id, behind)
                    ended = row.state not in ACTIVE
            for line in lines:
                behind = line.id
                yield f"event: log\ndata: {line.model_dump_json()}\n\n"
            if now != before:
                before = now
                yield f"event: run\ndata: {now}\n\n"
            if ended:
                return
            try:
                async with asyncio.timeout(_IDLE):
                    await heard.wait()
            except TimeoutError:
                yield ": still here\n\n"


class RunHub:
    """Wakes those who follow a run, from the database's announcements."""

    def __init__(self) -> None:
        self._followers: dict[str, set[asyncio.Event]] = {}
        self.few_at_once = asyncio.Semaphore(
            _LOOKING
        )  # else a crowd takes every connection of the database

    def heard(self, run_id: str) -> None:
        """Without an id: anything may have been missed, so everybody looks."""
        followers = (
            self._followers.get(run_id, ())
            if run_id
            else chain.from_iterable(self._followers.values())
        )
        for event in followers:
            event.set()

    def listening(self, run_id: str) -> Listening:
        return Listening(self._followers, run_id)


class Listening:
    def __init__(self, followers: dict[str, set[asyncio.Event]], run_id: str) -> None:
        self._followers, self._run, self._event = followers, run_id, asyncio.Event()

    def __enter__(self) -> asyncio.Event:
        self._followers.setdefault(self._run, set()).add(self._event)
        return self._event

    def __exit__(self, *_: object) -> None:
        self._followers[self._run].discard(self._event)
        if not self._followers[self._run]:
            del self._followers[self._run]


@router.post("/runs/{run}/stop")
async def stop_run(run: str, request: Request, context: Here) -> RunShown:
    """Ask a run to stop. What it had begun to write counts for nothing without its record."""
    async with context.session() as session:
        row = await queue.ask_to_stop(session, (await find_run(session, run)).id, context.now())
        if row.kind == "restore" and row.state == "stopped" and row.sheet_id:
            sheet = await session.get_one(SheetRow, row.sheet_id)
            sheet.state = "stopped"
        await audit.note(session, request, "stopped", "run", row.id)
        await session.flush()
        return await run_shown(context, session, row)


@router.post("/runs/{run}/passphrase", status_code=202)
async def give_passphrase(
    run: str, wanted: PassphraseWanted, request: Request, context: Here
) -> RunShown:
    """Open the key set for one run: the opening key goes to that run's worker, sealed to its own
    key.
    """
    async with context.session() as session:
        row = await find_run(session, run)
        store = await _store_of(session, row)
    key = await passphrase_relay.unlock(store, wanted.passphrase.get_secret_value())
    async with context.session() as session:
        row = (
            await session.execute(select(Run).where(Run.id == row.id).with_for_update())
        ).scalar_one()
        passphrase_relay.give(row, key)
        await progress_log.announce(session, row.id)
        await audit.note(session, request, "gave the passphrase", "run", row.id)
        return await run_shown(context, session, row)


async def _store_of(session: AsyncSession, run: Run) -> StoreRow:
    """The store whose key the run's worker waits for."""
    store = await session.get(StoreRow, run.order.opens or "")
    if store is None:
        raise NotFound(
            "The run does not wait for a passphrase.", "Follow it, and give one when it asks."
        )
    return store
