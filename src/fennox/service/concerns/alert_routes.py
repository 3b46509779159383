"""Creating and changing alert routes, and muting concerns."""

from __future__ import annotations

import secrets
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import AlertRoute, ConcernRow
from fennox.core.errors import BadInput, Conflict, FennoxError, NotFound, TryLater
from fennox.core.facts.messages import RouteSettings
from fennox.service.concerns import alert_messages, channels
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.wire.watch.alerts import AlertRouteChange, AlertTested, NewAlertRoute
from fennox.wire.watch.concerns import MuteWanted


async def route_named(session: AsyncSession, name: str) -> AlertRoute:
    route = select(AlertRoute).where(AlertRoute.name == name)
    row = (await session.execute(route)).scalar_one_or_none()
    if row is None:
        raise NotFound(f"There is no alert route {name}.", "`fennox alert list` shows them.")
    return row


async def add(context: Context, session: AsyncSession, wanted: NewAlertRoute) -> AlertRoute:
    """Add a route whose settings were checked. Raises Conflict."""
    same = select(AlertRoute).where(AlertRoute.name == wanted.name)
    if (await session.execute(same)).first() is not None:
        raise Conflict(
            f"The alert route {wanted.name} already exists.", "Change it, or choose another name."
        )
    now = context.now()
    row = AlertRoute(
        id=secrets.token_hex(16),
        name=wanted.name,
        channel=wanted.channel,
        address="",
        audit=wanted.audit,
        settings=_settings(wanted),
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
    return row


async def check(context: Context, wanted: NewAlertRoute) -> None:
    """Raises BadInput."""
    selectors.check_selector(wanted.systems)
    if wanted.digest:
        await context.evaluators.check_schedule(wanted.digest, "UTC")
    channels.check(wanted.channel, wanted.address, _settings(wanted))


def _settings(wanted: NewAlertRoute) -> RouteSettings:
    return RouteSettings(to=wanted.to, sender=wanted.sender, account=wanted.account)


def change(row: AlertRoute, wanted: AlertRouteChange, now: datetime) -> None:
    if wanted.systems is not None:
        selectors.check_selector(wanted.systems)
        row.systems = wanted.systems
    if wanted.digest is not None:
        row.digest, row.told_until = wanted.digest, now
    row.severity = wanted.severity or row.severity
    row.mode = wanted.mode or row.mode
    row.audit = row.audit if wanted.audit is None else wanted.audit


async def remove(session: AsyncSession, name: str) -> AlertRoute:
    row = await route_named(session, name)
    await session.delete(row)
    return row


async def send_test(context: Context, row: AlertRoute) -> AlertTested:
    try:
        await alert_messages.test(context, row)
    except TryLater as error:  # unlike a message, a test is not retried
        remedy = "Check its address, and what listens there."
        return AlertTested(sent=False, problem=error.what, remedy=remedy)
    except FennoxError as error:
        return AlertTested(sent=False, problem=error.what, remedy=error.remedy)
    return AlertTested(sent=True, problem="", remedy="")


def mute(row: ConcernRow, wanted: MuteWanted, by: str, now: datetime) -> None:
    if wanted.until <= now:
        raise BadInput("The end of the mute has passed.", "Give a time to come.", field="until")
    row.muted_until, row.muted_because, row.muted_by = wanted.until, wanted.reason, by


def unmute(row: ConcernRow) -> None:
    row.muted_until, row.muted_because, row.muted_by = None, "", ""
