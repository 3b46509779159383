"""Runs: progress, stopping, and handing over a passphrase."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator

from fastapi import Request
from fastapi.responses import StreamingResponse

from fennox.catalogue.models.runs import ACTIVE
from fennox.service.access_control import audit
from fennox.service.http import access
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here
from fennox.service.http.run_followers import RunHub
from fennox.service.keys import passphrase_relay
from fennox.service.machines.context import Context
from fennox.service.queries.lookups import find_run
from fennox.service.queries.paging import After, Limit
from fennox.service.restores import ending
from fennox.service.views import runs as run_views
from fennox.wire.base import Page
from fennox.wire.watch.runs import LogLine, PassphraseWanted, RunShown

router = api_router("runs")

_IDLE = 15.0  # seconds between keep-alive comments on an event stream


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
        return await run_views.page(
            context, session, system=system, state=state, kind=kind, limit=limit, after=after
        )


@router.get("/runs/{run}")
async def show_run(run: str, context: Here) -> RunShown:
    """One run with its steps."""
    async with context.session() as session:
        return await run_views.run_shown(context, session, await find_run(session, run))


@router.get("/runs/{run}/log")
async def run_log(run: str, context: Here, behind: int = 0) -> Page[LogLine]:
    """The run's log lines with ids greater than ``behind``."""
    async with context.session() as session:
        return await run_views.log_page(session, (await find_run(session, run)).id, behind)


@router.get("/runs/{run}/events", response_class=StreamingResponse)
async def run_events(run: str, request: Request, context: Here) -> StreamingResponse:
    """Server-sent events until the run ends: `run` (the present run) and `log` (a line)."""
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
                    now = (await run_views.run_shown(context, session, row)).model_dump_json()
                    lines = await run_views.log_lines(session, run_id, behind)
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


@router.post("/runs/{run}/stop")
async def stop_run(run: str, request: Request, context: Here) -> RunShown:
    """Ask a run to stop. Without its record, everything it wrote is void."""
    async with context.session() as session:
        row = await find_run(session, run)
        row = await ending.ask_to_stop(session, row.id, context.now())
        await audit.note(session, request, "stopped", "run", row.id)
        return await run_views.fresh(context, session, row)


@router.post("/runs/{run}/passphrase", status_code=202)
async def give_passphrase(
    run: str, wanted: PassphraseWanted, request: Request, context: Here
) -> RunShown:
    """Open the key set for one run: its worker gets the opening key, sealed to the worker's own
    key.
    """
    async with context.session() as session:
        row = await find_run(session, run)
        store = await passphrase_relay.store_to_open(session, row)
    key = await passphrase_relay.unlock(store, wanted.passphrase.get_secret_value())
    async with context.session() as session:
        row = await passphrase_relay.give(session, row.id, key)
        await audit.note(session, request, "gave the passphrase", "run", row.id)
        return await run_views.fresh(context, session, row)
