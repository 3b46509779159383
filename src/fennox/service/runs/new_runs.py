"""Recording and queueing runs: one active run per system, others wait behind it."""

from __future__ import annotations

import secrets
from dataclasses import asdict, dataclass
from datetime import datetime

from sqlalchemy import (
    select,
)
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import IS_ACTIVE, Run
from fennox.core.errors import Conflict
from fennox.core.facts.run_orders import RunOrder
from fennox.service.foundation.postgresql import broken_constraint
from fennox.service.runs.progress_log import announce
from fennox.service.runs.queue import call_workers, end


@dataclass(frozen=True, kw_only=True)
class About:
    """The run's subjects, by id. ``backup_id``: the backup made, copied or verified."""

    system_id: str | None = None
    store_id: str | None = None
    routine_id: str | None = None
    sheet_id: str | None = None
    backup_id: str | None = None


async def enqueue(
    session: AsyncSession,
    order: RunOrder,
    about: About,
    *,
    by: str,
    now: datetime,
    due: datetime | None = None,
    idempotency_key: str | None = None,
    wait: bool = False,
) -> Run:
    """Record and queue a run in the caller's transaction; one active run per system. ``wait``: wait
    behind another active run of the system instead of being rejected. The same idempotency key
    gives the same run again.
    """
    if idempotency_key is not None:
        known = await _known(session, idempotency_key, order, about)
        if known is not None:
            return known
    if order.kind != "look" and about.system_id is not None:
        await _give_way(session, about.system_id, now)
    run = Run(
        id=secrets.token_hex(16),
        kind=order.kind,
        state="queued",
        order=order,
        by=by,
        due=due,
        created=now,
        idempotency_key=idempotency_key,
        **asdict(about),
    )
    try:
        async with session.begin_nested():
            session.add(run)
    except IntegrityError as error:
        broken = broken_constraint(error)
        if broken == "a_due_time_is_decided_once":
            what = "This due time has already been decided."
            raise Conflict(what, "There is nothing to do.", decided=True) from error
        if broken != "one_active_run_for_a_system":
            raise
        run = await _lined_up(session, run, wait=wait)
    await announce(session, run.id)
    await call_workers(session)
    return run


async def _known(
    session: AsyncSession, idempotency_key: str, order: RunOrder, about: About
) -> Run | None:
    """The run started earlier with this key. Raises Conflict if the request differs."""
    same = select(Run).where(Run.idempotency_key == idempotency_key)
    run = (await session.execute(same)).scalar_one_or_none()
    asked = (order.kind, about.system_id, about.sheet_id)
    if run is not None and (run.kind, run.system_id, run.sheet_id) != asked:
        raise Conflict(
            f"This idempotency key has started another run: the {run.kind} {run.id[:12]}.",
            "Use another key.",
        )
    return run


async def hold_active(session: AsyncSession, system_id: str) -> None:
    """Lock the active runs of a system before its own row or one of its sheets. Workers lock the
    run first; a different order leads to a deadlock, of which the database aborts one side: a
    restore died because somebody started it a second time.
    """
    active = select(Run.id).where(Run.system_id == system_id, IS_ACTIVE).order_by(Run.id)
    await session.execute(active.with_for_update())


async def _lined_up(session: AsyncSession, run: Run, *, wait: bool) -> Run:
    """Queue a run behind the active one of its system."""
    active = select(Run).where(Run.system_id == run.system_id, IS_ACTIVE)
    other = (await session.execute(active.where(Run.behind.is_(None)))).scalars().first()
    waiting = (await session.execute(active.where(Run.behind.is_not(None)))).scalars().all()
    if not wait or other is None or len(waiting) >= _MOST_LINED_UP:
        many = f" and {len(waiting)} more wait behind it" if wait and waiting else ""
        raise Conflict(
            f"Another run of this system is {other.state if other else 'active'}"
            + (f" ({other.kind} {other.id[:12]}){many}." if other else "."),
            "Wait for it, or stop it with `fennox run stop`.",
            run=other.id if other else None,
        )
    behind = Run(
        **{name: getattr(run, name) for name in _QUEUED_WITH},
        id=secrets.token_hex(16),
        state="queued",
        behind=other.id,
    )
    session.add(behind)
    await session.flush()
    return behind


_QUEUED_WITH = (
    "kind",
    "system_id",
    "store_id",
    "routine_id",
    "sheet_id",
    "backup_id",
    "order",
    "by",
    "due",
    "created",
    "idempotency_key",
)


_MOST_LINED_UP = 5  # runs of one system that wait behind an active one


async def _give_way(session: AsyncSession, system_id: str, now: datetime) -> None:
    """A look must not delay others: it ends when another run of its system is requested."""
    looks = (
        select(Run)
        .where(Run.system_id == system_id, Run.kind == "look", IS_ACTIVE)
        .with_for_update()
    )
    for run in (await session.execute(looks)).scalars():
        run.fence += 1
        run.reason = "It gave way to another run of the system."
        await end(session, run, "stopped", now)
        await session.flush()
