"""What is wrong, and who is told."""

from __future__ import annotations

import secrets
from typing import Annotated

from fastapi import APIRouter, Query, Request
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import Alert, AlertRoute, ConcernRow
from fennox.core.errors import BadInput, Conflict, FennoxError, NotFound, TryLater
from fennox.core.facts.messages import RouteSettings
from fennox.service.access_control import audit
from fennox.service.concerns import alert_messages, channels, estate_watch, standing_concerns
from fennox.service.http.routes.estate.estate import concern_shown
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.queries import selectors
from fennox.service.queries.lookups import find_concern
from fennox.service.queries.paging import Limit
from fennox.service.upkeep import store_duties
from fennox.wire.alerts import AlertRouteChange, AlertRouteShown, AlertTested, NewAlertRoute
from fennox.wire.base import Page
from fennox.wire.concerns import Concern, MuteWanted

router = APIRouter(tags=["concerns"])

_ENDED = 200  # concerns that are over, told at most


@router.get("/concerns")
async def list_concerns(
    context: Here, ended: bool = False, limit: Limit = 200, after: Annotated[int, Query(ge=0)] = 0
) -> Page[Concern]:
    """What stands, worst first, with what is muted; or what is over, the newest first."""
    await store_duties.watch_folders(context)
    async with context.session() as session:
        if ended:
            over = (
                select(ConcernRow)
                .where(ConcernRow.ended.is_not(None))
                .order_by(ConcernRow.ended.desc())
            )
            rows = list((await session.execute(over.limit(_ENDED))).scalars())
        else:
            await estate_watch.refresh(context, session)
            found = (
                select(ConcernRow)
                .where(ConcernRow.ended.is_(None))
                .order_by(*standing_concerns.WORST_FIRST)
            )
            rows = list((await session.execute(found.offset(after).limit(limit + 1))).scalars())
        more = str(after + limit) if not ended and len(rows) > limit else None
        return Page(
            items=[concern_shown(row, context.now()) for row in (rows[:limit] if more else rows)],
            after=more,
        )


@router.post("/concerns/{concern}/mute")
async def mute_concern(
    concern: str, wanted: MuteWanted, request: Request, context: Here, who: Who
) -> Concern:
    """Be told nothing of a concern until a time, with a reason."""
    if wanted.until <= context.now():
        raise BadInput("The end of the mute has passed.", "Give a time to come.", field="until")
    async with context.session() as session:
        row = await find_concern(session, concern)
        row.muted_until, row.muted_because, row.muted_by = wanted.until, wanted.reason, who.name
        await audit.note(
            session, request, "muted", "concern", row.about, text=row.text, reason=wanted.reason
        )
        return concern_shown(row, context.now())


@router.delete("/concerns/{concern}/mute")
async def unmute_concern(concern: str, request: Request, context: Here) -> Concern:
    """Be told of it again."""
    async with context.session() as session:
        row = await find_concern(session, concern)
        row.muted_until, row.muted_because, row.muted_by = None, "", ""
        await audit.note(session, request, "unmuted", "concern", row.about, text=row.text)
        return concern_shown(row, context.now())


@router.get("/alerts")
async def list_alerts(context: Here) -> Page[AlertRouteShown]:
    """Who is told of what."""
    async with context.session() as session:
        rows = (await session.execute(select(AlertRoute).order_by(AlertRoute.name))).scalars()
        return Page(items=[await _shown(session, row) for row in rows.all()])


@router.post("/alerts", status_code=201)
async def add_alert(wanted: NewAlertRoute, request: Request, context: Here) -> AlertRouteShown:
    """Tell somebody. Nothing is sent yet: test it."""
    selectors.check_selector(wanted.systems)
    if wanted.digest:
        await context.evaluators.check_schedule(wanted.digest, "UTC")
    settings = RouteSettings(to=wanted.to, sender=wanted.sender, account=wanted.account)
    channels.check(wanted.channel, wanted.address, settings)
    async with context.session() as session:
        if (
            await session.execute(select(AlertRoute).where(AlertRoute.name == wanted.name))
        ).first() is not None:
            raise Conflict(
                f"The alert route {wanted.name} is already there.",
                "Change it, or choose another name.",
            )
        now = context.now()
        row = AlertRoute(
            id=secrets.token_hex(16),
            name=wanted.name,
            channel=wanted.channel,
            address="",
            audit=wanted.audit,
            settings=settings,
            severity=wanted.severity,
            systems=wanted.systems,
            digest=wanted.digest,
            mode="on",
            created=now,
            told_until=now,
        )
        alert_messages.set_address(context, row, wanted.address)
        if wanted.secret is not None:
            secret = wanted.secret.get_secret_value().encode()
            row.sealed_secret = context.keyfile.seal(secret, alert_messages.secret_place(row.id))
        session.add(row)
        await audit.note(
            session, request, "added", "alert", row.name, channel=row.channel, to=row.address
        )
        await session.flush()
        return await _shown(session, row)


@router.patch("/alerts/{name}")
async def change_alert(
    name: str, wanted: AlertRouteChange, request: Request, context: Here
) -> AlertRouteShown:
    """Change who is told of what, or switch it off."""
    if wanted.digest:
        await context.evaluators.check_schedule(wanted.digest, "UTC")
    async with context.session() as session:
        row = await _route(session, name)
        if wanted.systems is not None:
            selectors.check_selector(wanted.systems)
            row.systems = wanted.systems
        if wanted.digest is not None:
            row.digest, row.told_until = wanted.digest, context.now()
        row.severity = wanted.severity or row.severity
        row.mode = wanted.mode or row.mode
        row.audit = row.audit if wanted.audit is None else wanted.audit
        await audit.note(
            session, request, "changed", "alert", row.name, what=", ".join(wanted.model_fields_set)
        )
        return await _shown(session, row)


@router.delete("/alerts/{name}", status_code=204)
async def remove_alert(name: str, request: Request, context: Here) -> None:
    """Tell nobody by this route any more."""
    async with context.session() as session:
        row = await _route(session, name)
        await session.delete(row)
        await audit.note(session, request, "removed", "alert", row.name)


@router.post("/alerts/{name}/test")
async def test_alert(name: str, context: Here) -> AlertTested:
    """Send a test message now, and say what came of it."""
    async with context.session() as session:
        row = await _route(session, name)
    try:
        await alert_messages.test(context, row)
    except FennoxError as error:
        # a test is not sent again by itself, as a message would be
        remedy = (
            "Look at its address and at what listens there."
            if isinstance(error, TryLater)
            else error.remedy
        )
        return AlertTested(sent=False, problem=error.what, remedy=remedy)
    return AlertTested(sent=True, problem="", remedy="")


async def _route(session: AsyncSession, name: str) -> AlertRoute:
    row = (
        await session.execute(select(AlertRoute).where(AlertRoute.name == name))
    ).scalar_one_or_none()
    if row is None:
        raise NotFound(
            f"There is no alert route {name}.", "`fennox alert list` shows those there are."
        )
    return row


async def _shown(session: AsyncSession, row: AlertRoute) -> AlertRouteShown:
    mine = select(Alert).where(Alert.route_id == row.id)
    waiting = (
        select(func.count())
        .select_from(Alert)
        .where(Alert.route_id == row.id, Alert.sent.is_(None))
    )
    failed = mine.where(Alert.error != "").order_by(Alert.id.desc()).limit(1)
    last_failed = (await session.execute(failed)).scalar_one_or_none()
    sent = select(func.max(Alert.sent)).where(Alert.route_id == row.id)
    return AlertRouteShown(
        id=row.id,
        name=row.name,
        channel=row.channel,
        address=row.address,
        to=row.settings.to,
        severity=row.severity,
        systems=row.systems,
        digest=row.digest,
        mode=row.mode,
        created=row.created,
        audit=row.audit,
        waiting=(await session.execute(waiting)).scalar_one(),
        last_sent=(await session.execute(sent)).scalar_one_or_none(),
        last_error=last_failed.error if last_failed else "",
    )
