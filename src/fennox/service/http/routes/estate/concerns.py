"""Concerns, and who is alerted."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request

from fennox.service.access_control import audit
from fennox.service.concerns import alert_routes
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.queries.lookups import find_concern
from fennox.service.queries.paging import Limit
from fennox.service.upkeep import store_duties
from fennox.service.views import concerns as concern_views
from fennox.wire.base import Page
from fennox.wire.watch.alerts import AlertRouteChange, AlertRouteShown, AlertTested, NewAlertRoute
from fennox.wire.watch.concerns import Concern, MuteWanted

router = api_router("concerns")


@router.get("/concerns")
async def list_concerns(
    context: Here, ended: bool = False, limit: Limit = 200, after: Annotated[int, Query(ge=0)] = 0
) -> Page[Concern]:
    """Standing concerns, worst first, including muted ones; or past ones, newest first."""
    await store_duties.watch_folders(context)
    async with context.session() as session:
        return await concern_views.page(context, session, ended=ended, limit=limit, after=after)


@router.post("/concerns/{concern}/mute")
async def mute_concern(
    concern: str, wanted: MuteWanted, request: Request, context: Here, who: Who
) -> Concern:
    """Mute a concern until a time, with a reason."""
    async with context.session() as session:
        row = await find_concern(session, concern)
        alert_routes.mute(row, wanted, who.name, context.now())
        await audit.note(
            session, request, "muted", "concern", row.about, text=row.text, reason=wanted.reason
        )
        return concern_views.concern_shown(row, context.now())


@router.delete("/concerns/{concern}/mute")
async def unmute_concern(concern: str, request: Request, context: Here) -> Concern:
    """Unmute a concern."""
    async with context.session() as session:
        row = await find_concern(session, concern)
        alert_routes.unmute(row)
        await audit.note(session, request, "unmuted", "concern", row.about, text=row.text)
        return concern_views.concern_shown(row, context.now())


@router.get("/alerts")
async def list_alerts(context: Here) -> Page[AlertRouteShown]:
    """All alert routes."""
    async with context.session() as session:
        return await concern_views.alert_routes(session)


@router.post("/alerts", status_code=201)
async def add_alert(wanted: NewAlertRoute, request: Request, context: Here) -> AlertRouteShown:
    """Create an alert route. Sends nothing yet; test it afterwards."""
    await alert_routes.check(context, wanted)
    async with context.session() as session:
        row = await alert_routes.add(context, session, wanted)
        await audit.note(
            session, request, "added", "alert", row.name, channel=row.channel, to=row.address
        )
        return await concern_views.alert_route(session, row)


@router.patch("/alerts/{name}")
async def change_alert(
    name: str, wanted: AlertRouteChange, request: Request, context: Here
) -> AlertRouteShown:
    """Change list the alert routes, or switch it off."""
    if wanted.digest:
        await context.evaluators.check_schedule(wanted.digest, "UTC")
    async with context.session() as session:
        row = await alert_routes.route_named(session, name)
        alert_routes.change(row, wanted, context.now())
        changed = ", ".join(wanted.model_fields_set)
        await audit.note(session, request, "changed", "alert", row.name, what=changed)
        return await concern_views.alert_route(session, row)


@router.delete("/alerts/{name}", status_code=204)
async def remove_alert(name: str, request: Request, context: Here) -> None:
    """Remove an alert route."""
    async with context.session() as session:
        row = await alert_routes.remove(session, name)
        await audit.note(session, request, "removed", "alert", row.name)


@router.post("/alerts/{name}/test")
async def test_alert(name: str, context: Here) -> AlertTested:
    """Send a test message now and return the result."""
    async with context.session() as session:
        row = await alert_routes.route_named(session, name)
    return await alert_routes.send_test(context, row)
