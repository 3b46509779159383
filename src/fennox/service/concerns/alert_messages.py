"""Messages when concerns begin and end. One message for one cause; a message that cannot be sent is
retried.
"""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Select, func, or_, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import Alert, AlertRoute, ConcernRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import FennoxError
from fennox.core.facts.messages import ConcernTold, MessageFacts
from fennox.core.schedule import moments, schedule
from fennox.service.concerns import channels
from fennox.service.concerns.channels import Message, send
from fennox.service.concerns.matters import root_first, sentence
from fennox.service.machines.context import Context
from fennox.service.queries import selectors

log: Any = structlog.get_logger()

_FIRST_PAUSE, _LONGEST_PAUSE = timedelta(minutes=1), timedelta(hours=1)
_GIVEN_UP = timedelta(days=2)  # older messages are not sent any more
_NAMED = 20  # concerns that one message names
_AT_ONCE = 20  # messages sent per round of the scheduler


async def tell(
    context: Context, session: AsyncSession, begun: list[ConcernRow], ended: list[ConcernRow]
) -> None:
    """Queue a message per route and cause. Routes with a digest get it later."""
    now = context.now()
    loud = [row for row in begun if row.muted_until is None or row.muted_until <= now]
    over = [row for row in ended if row.muted_until is None or row.muted_until <= now]
    if not loud and not over:
        return
    systems = {row.name: row for row in (await session.execute(select(System))).scalars()}
    on = select(AlertRoute).where(AlertRoute.mode == "on", AlertRoute.digest == "")
    for route in (await session.execute(on)).scalars().all():
        for event, rows in (("begun", loud), ("ended", over)):
            for together in _by_cause([row for row in rows if concerns_route(route, row, systems)]):
                text = sentence(together, len(together))
                session.add(
                    Alert(
                        route_id=route.id,
                        at=now,
                        event=event,
                        not_before=now,
                        body=_facts(together, text),
                    )
                )


def concerns_route(route: AlertRoute, row: ConcernRow, systems: dict[str, System]) -> bool:
    """A concern that is not about a system, such as a store's, goes to every route of its
    severity.
    """
    if route.severity == "high" and row.severity != "high":
        return False
    system = systems.get(row.about) if row.noun == "system" else None
    return system is None or selectors.selects(route.systems, system)


def _by_cause(rows: list[ConcernRow]) -> list[list[ConcernRow]]:
    """A store or a site that is away is one message, not one for each of its systems."""
    found: dict[str, list[ConcernRow]] = defaultdict(list)
    for row in rows:
        found[row.cause].append(row)
    return [root_first(together) for together in found.values()]


def _facts(rows: list[ConcernRow], text: str = "") -> MessageFacts:
    return MessageFacts(
        severity="high" if any(row.severity == "high" for row in rows) else "low",
        count=len(rows),
        text=text,
        concerns=[
            ConcernTold(
                id=row.key,
                about=row.about,
                text=row.text,
                means=row.means,
                remedy=row.remedy,
                since=row.since,
            )
            for row in rows[:_NAMED]
        ],
    )


def message_of(context: Context, alert: Alert) -> Message:
    """The message text. The subject is the first sentence, so that a phone shows what matters."""
    body, ended = alert.body, alert.event == "ended"
    listed = body.concerns
    first = body.text or (listed[0].text if listed else "Nothing is wrong.")
    titles = {
        "begun": first,
        "ended": f"Over: {first}",
        "digest": _digest_title(body),
        "test": first,
        "audit": first,
    }
    lines = []
    for item in listed:
        lines += [
            f"- {item.text}",
            *(f"  {said}" for said in (item.means, item.remedy) if said and not ended),
        ]
    if body.count > len(listed):
        lines.append(f"- and {body.count - len(listed)} more")
    lines += ["", f"See {context.settings.url} or `fennox status`."]
    return Message(
        id=f"{context.service_id}-{alert.id}",
        at=alert.at,
        event=alert.event,
        severity=body.severity,
        title=titles[alert.event],
        text="\n".join(lines),
        data=body,
    )


def _digest_title(facts: MessageFacts) -> str:
    return f"{facts.count} concerns stand" if facts.count != 1 else "One concern is open"


async def send_due(context: Context) -> datetime | None:
    """Send pending messages and due digests. Returns the time of the next one, if known."""
    digest = await _digests(context)
    for _ in range(_AT_ONCE):
        async with context.session() as session:
            now = context.now()
            row = (await session.execute(_waiting(now))).first()
            if row is None:
                again = select(func.min(Alert.not_before)).where(
                    Alert.sent.is_(None), Alert.at > now - _GIVEN_UP
                )
                following = (digest, (await session.execute(again)).scalar_one())
                return min((moment for moment in following if moment is not None), default=None)
            alert, route = row
            alert.tries += 1
            alert.not_before = now + min(_FIRST_PAUSE * 2 ** (alert.tries - 1), _LONGEST_PAUSE)
        # outside the transaction: a far side may be slow
        problem = ""
        try:
            address, secret = address_of(context, route), secret_of(context, route)
            await send(route.channel, address, route.settings, secret, message_of(context, alert))
        except FennoxError as error:
            problem = error.what
            log.warning("an alert could not be sent", route=route.name, reason=problem)
        async with context.session() as session:
            done = {"error": problem} if problem else {"error": "", "sent": context.now()}
            await session.execute(update(Alert).where(Alert.id == alert.id).values(done))
    return context.now()


def _waiting(now: datetime) -> Select[Alert, AlertRoute]:
    """The longest waiting message that may be tried; a pause beyond the maximum was set by a wrong
    clock.
    """
    due = or_(Alert.not_before <= now, Alert.not_before > now + 2 * _LONGEST_PAUSE)
    return (
        select(Alert, AlertRoute)
        .join(AlertRoute)
        .where(Alert.sent.is_(None), Alert.at > now - _GIVEN_UP, due)
        .order_by(Alert.id)
        .limit(1)
        .with_for_update(skip_locked=True, of=Alert)
    )


async def _digests(context: Context) -> datetime | None:
    """Queue due digests. Returns the time of the next one."""
    following: list[datetime | None] = []
    async with context.session() as session:
        wanted = select(AlertRoute).where(AlertRoute.mode == "on", AlertRoute.digest != "")
        for route in (
            (await session.execute(wanted.with_for_update(skip_locked=True))).scalars().all()
        ):
            told = moments.past(route.told_until, context.now()) or context.now() - _GIVEN_UP
            plan = schedule.parse(route.digest, "UTC")
            following.append(plan.after(context.now()))
            due = plan.newest_due(told, context.now())
            if due is None:
                continue
            route.told_until = due
            systems = {row.name: row for row in (await session.execute(select(System))).scalars()}
            standing = (
                await session.execute(select(ConcernRow).where(ConcernRow.ended.is_(None)))
            ).scalars()
            rows = [
                row
                for row in standing
                if concerns_route(route, row, systems) and not _muted(row, due)
            ]
            rows.sort(key=lambda row: (row.severity != "high", row.since))
            session.add(
                Alert(
                    route_id=route.id,
                    at=context.now(),
                    event="digest",
                    not_before=due,
                    body=_facts(rows),
                )
            )
    return min((moment for moment in following if moment is not None), default=None)


def _muted(row: ConcernRow, now: datetime) -> bool:
    return row.muted_until is not None and row.muted_until > now


def address_of(context: Context, route: AlertRoute) -> str:
    """The full address. A webhook's address often contains a token, so it is stored sealed."""
    if route.sealed_address is None:
        return route.address
    return context.keyfile.open(route.sealed_address, address_place(route.id)).decode()


def address_place(route: str) -> str:
    return f"alert_routes|{route}|address"


def secret_place(route: str) -> str:
    return f"alert_routes|{route}|secret"


async def seal_addresses(context: Context) -> None:
    """Seal addresses stored in clear by an earlier version."""
    async with context.session() as session:
        rows = select(AlertRoute).where(AlertRoute.sealed_address.is_(None)).with_for_update()
        for route in (await session.execute(rows)).scalars():
            set_address(context, route, route.address)


def set_address(context: Context, route: AlertRoute, address: str) -> None:
    route.sealed_address = context.keyfile.seal(address.encode(), address_place(route.id))
    route.address = channels.shown(route.channel, address)


def secret_of(context: Context, route: AlertRoute) -> str:
    if route.sealed_secret is None:
        return ""
    return context.keyfile.open(route.sealed_secret, secret_place(route.id)).decode()


async def test(context: Context, route: AlertRoute) -> None:
    """Send one message at once; raises the error if it fails."""
    alert = Alert(
        id=0,
        route_id=route.id,
        at=context.now(),
        event="test",
        not_before=context.now(),
        body=MessageFacts(
            count=1,
            concerns=[
                ConcernTold(
                    id="test",
                    about="alerts",
                    means="",
                    remedy="",
                    since=context.now(),
                    text=f"This is a test of the alert route {route.name}; nothing is wrong.",
                )
            ],
        ),
    )
    address, secret = address_of(context, route), secret_of(context, route)
    await send(route.channel, address, route.settings, secret, message_of(context, alert))
