"""Approval of grave acts by a second person, if an administrator enabled it. An approval is bound
to one request of one person: its route, its values and, for a restore, the sheet's state. Once
granted, the person repeats the request. It is valid once.
"""

from __future__ import annotations

import json
import secrets
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Approval, User
from fennox.catalogue.models.service import ServiceState
from fennox.core.errors import ApprovalNeeded, Conflict, NotAllowed, NotFound
from fennox.core.facts.concerns import ConcernFound
from fennox.service.machines.context import Context
from fennox.service.people.persons import Person, covered
from fennox.wire.access import Act, Role

ASKED_FOR = timedelta(hours=24)  # time to grant it
GRANTED_FOR = timedelta(hours=1)  # time to use it afterwards
_LONGEST_VALUE = 2000  # characters

_MOST_LISTED = 200


@dataclass(frozen=True)
class ApprovalAsked:
    """A request that needs approval. ``values``: its JSON for display; ``body``: as received.
    ``subject``: state of the affected thing, so that an approval covers exactly that.
    """

    operation: str
    act: Act
    path: str
    query: str
    body: bytes
    values: Mapping[str, Any]
    sheet: str | None
    system: str | None
    subject: Any

    def digest(self, context: Context) -> str:
        """Keyed, because a request may contain a password that could be guessed from a plain
        digest.
        """
        what = [self.operation, self.path, self.query, self.body.hex(), self.subject]
        return context.keyfile.tag(json.dumps(what, sort_keys=True).encode(), "approvals|digest")

    def shown(self) -> list[list[str]]:
        return [
            [name, _text(value)]
            for name, value in self.values.items()
            if value not in (None, [], {}, "")
        ]


def _text(value: Any) -> str:
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return (
        text
        if len(text) <= _LONGEST_VALUE
        else f"{text[:_LONGEST_VALUE]} … ({len(text)} characters)"
    )


async def acts(session: AsyncSession) -> list[str]:
    """The groups of grave acts for which approval is switched on."""
    return (await session.execute(select(ServiceState.approvals))).scalar_one_or_none() or []


@asynccontextmanager
async def approved(
    context: Context, who: Person, asked: ApprovalAsked
) -> AsyncIterator[str | None]:
    """Wraps the act: the approval is used up if the act succeeds. Raises ``ApprovalNeeded`` if
    there is none. Yields the approval's id; None if none is needed.
    """
    async with context.session() as session:
        if asked.act not in await acts(session):
            row, refusal = None, None
        else:
            row = await _standing(session, who, asked.digest(context))
            row = row or await _ask(context, session, who, asked)
            refusal = await _refusal(session, row)
    if refusal is not None:
        raise refusal
    if row is None:
        yield None
        return
    try:
        yield row.id
    except BaseException:
        async with context.session() as session:
            await session.execute(
                update(Approval).where(Approval.id == row.id).values(state="granted")
            )
        raise


async def _standing(session: AsyncSession, who: Person, digest: str) -> Approval | None:
    mine = select(Approval).where(
        Approval.user_id == who.id, Approval.digest == digest, Approval.state != "used"
    )
    rows = (
        mine.where(Approval.until > func.now())
        .order_by(Approval.at.desc())
        .limit(1)
        .with_for_update()
    )
    return (await session.execute(rows)).scalar_one_or_none()


async def _ask(
    context: Context, session: AsyncSession, who: Person, asked: ApprovalAsked
) -> Approval:
    at: datetime = (await session.execute(select(func.now()))).scalar_one()
    row = Approval(
        id=secrets.token_hex(16),
        user_id=who.id,
        by=who.name,
        operation=asked.operation,
        act=asked.act,
        about=asked.path.removeprefix("/api/v1"),
        shown=asked.shown(),
        sheet_id=asked.sheet,
        system_id=asked.system,
        digest=asked.digest(context),
        at=at,
        until=at + ASKED_FOR,
        state="asked",
    )
    session.add(row)
    await session.flush()
    return row


async def _refusal(session: AsyncSession, row: Approval) -> NotAllowed | None:
    """Why it may not be done yet; None if it was granted, and is now used up."""
    match row.state:
        case "granted":
            row.state = "used"
            return None
        case "refused":
            because = f": {row.because}" if row.because else "."
            return NotAllowed(f"{row.decided_by} refused this{because}", "Talk to each other.")
        case _:
            return ApprovalNeeded(
                f"A second person must approve this; it waits as {row.id[:12]}.",
                f"They run: fennox approval grant {row.id[:12]}. Then repeat what you did.",
                approval=row.id,
            )


def may_decide(who: Person, row: Approval, needed: Role) -> bool:
    """Anyone who may do the act themselves may approve it, except their own request."""
    return row.user_id != who.id and who.may(needed) and who.kind in ("console", "client")


async def found(session: AsyncSession, text: str) -> Approval:
    rows = (
        await session.execute(
            select(Approval).where(Approval.id.startswith(text, autoescape=True)).limit(2)
        )
    ).all()
    if len(rows) != 1 or len(text) < 6:
        raise not_there(text)
    row: Approval = rows[0][0]
    return row


def not_there(text: str) -> NotFound:
    return NotFound(
        f"There is no approval {text[:32]}.", "`fennox approval list` shows those there are."
    )


async def decide(
    session: AsyncSession, who: Person, row: Approval, needed: Role, *, grant: bool, because: str
) -> None:
    """Raises ``NotAllowed`` for one's own, ``Conflict`` if already decided or expired."""
    await session.refresh(row, with_for_update=True)
    if row.user_id == who.id:
        raise NotAllowed(
            "You asked for this yourself; somebody else must approve it.", "Ask a second person."
        )
    if not may_decide(who, row, needed):
        raise NotAllowed(
            "Only a person who may do this themselves approves it.", "Ask an administrator."
        )
    now: datetime = (await session.execute(select(func.now()))).scalar_one()
    if row.state != "asked":
        raise Conflict(
            f"This was {row.state} already{f' by {row.decided_by}' if row.decided_by else ''}.",
            "To do it again, ask for another approval.",
        )
    if row.until <= now:
        raise Conflict(
            f"This could be approved until {row.until:%Y-%m-%d %H:%M} UTC.",
            "Have it requested again.",
        )
    row.state, row.decided_by, row.decided, row.because = (
        "granted" if grant else "refused",
        who.name,
        now,
        because,
    )
    if grant:
        row.until = now + GRANTED_FOR


async def must_leave_two(
    session: AsyncSession, wanted: list[str], needed: Mapping[Act, Role]
) -> None:
    """Raise if only one person could approve these acts: they could then never be done, nor the
    rule switched off.
    """
    people = (await session.execute(select(User.name, User.role, User.scope))).all()
    for act, role in needed.items():
        able = [name for name, own, scope in people if role in covered(own) and scope is None]
        if act in wanted and len(able) < 2:
            raise Conflict(
                f"Fewer than two people could approve {act}.",
                f"Make a second {role} of the whole estate first: fennox user add NAME --role"
                f" {role}",
            )


async def concerns(session: AsyncSession) -> list[ConcernFound]:
    """Pending approvals."""
    waiting = (
        select(Approval)
        .where(Approval.state == "asked", Approval.until > func.now())
        .order_by(Approval.at)
    )
    return [
        ConcernFound(
            "approval-waits",
            "low",
            "service",
            f"approval {row.id[:12]}",
            f"{row.by} asks for approval: {row.act}.",
            f"Look at it: fennox approval show {row.id[:12]}",
            f"It ends {row.until:%Y-%m-%d %H:%M} UTC.",
            since=row.at,
        )
        for row in (await session.execute(waiting)).scalars()
    ]


async def database_now(session: AsyncSession) -> datetime:
    now: datetime = (await session.execute(select(func.now()))).scalar_one()
    return now


async def listed(session: AsyncSession, *, ended_too: bool) -> list[Approval]:
    """Pending approvals, oldest first; or all recent ones, newest first."""
    waiting = select(Approval).where(Approval.state == "asked", Approval.until > func.now())
    query = waiting.order_by(Approval.at)
    if ended_too:
        query = select(Approval).order_by(Approval.at.desc()).limit(_MOST_LISTED)
    return list((await session.execute(query)).scalars())


async def set_acts(
    session: AsyncSession, wanted: Sequence[Act], needed: Mapping[Act, Role]
) -> list[str]:
    """``needed``: the role that may approve each act. Returns the previous setting."""
    await must_leave_two(session, list(wanted), needed)
    state = (await session.execute(select(ServiceState).with_for_update())).scalar_one()
    before, state.approvals = state.approvals, list(wanted)
    return before
