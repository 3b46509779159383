"""Creating, changing and removing routines."""

from __future__ import annotations

import contextlib
import secrets
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import StoreRow
from fennox.core.errors import Conflict
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.retention import ladder
from fennox.core.schedule import schedule
from fennox.service.machines.context import Context, named
from fennox.service.queries import selectors
from fennox.service.retention import routines
from fennox.service.runs import new_runs
from fennox.wire.routines import NewRoutine, RoutineChange

_NUMBERS = ("look_every", "settle", "most_a_day")


def phrase(text: str) -> str:
    """Normalised: phrases in lower case, RFC 5545 rules in upper case."""
    text = text.strip()
    return text.upper() if text[:6].lower() in ("rrule:", "dtstar") else text.lower()


async def new_routine(context: Context, session: AsyncSession, wanted: NewRoutine) -> Routine:
    """The row, not yet added."""
    selectors.check_selector(wanted.systems)
    schedule.parse(phrase(wanted.when), wanted.zone)
    schedule.quiet_hours(wanted.quiet)
    now = context.now()
    return Routine(
        id=secrets.token_hex(16),
        name=wanted.name,
        systems=wanted.systems,
        when=phrase(wanted.when),
        zone=wanted.zone,
        store_id=(await named(session, StoreRow, wanted.store)).id,
        copy_to=[(await named(session, StoreRow, further)).id for further in wanted.copy_to],
        ladder=str(ladder.parse(wanted.ladder)),
        mode=wanted.mode,
        parts=wanted.parts,
        spread=wanted.spread,
        quiet=wanted.quiet.strip(),
        look_every=wanted.look_every,
        settle=wanted.settle,
        most_a_day=wanted.most_a_day,
        created=now,
        decided_until=now,
        version=1,
    )


async def add(session: AsyncSession, row: Routine) -> None:
    same = select(Routine).where(Routine.name == row.name)
    if (await session.execute(same)).first() is not None:
        raise Conflict(
            f"The routine {row.name} already exists.", "Change it, or choose another name."
        )
    session.add(row)
    await session.flush()


async def change(session: AsyncSession, row: Routine, wanted: RoutineChange, now: datetime) -> None:
    """``row`` is locked."""
    if wanted.systems is not None:
        selectors.check_selector(wanted.systems)
        row.systems = wanted.systems
    _change_times(row, wanted)
    if wanted.parts is not None:
        row.parts = wanted.parts or None
    if wanted.copy_to is not None:
        row.copy_to = [(await named(session, StoreRow, further)).id for further in wanted.copy_to]
    if wanted.store is not None:
        row.store_id = (await named(session, StoreRow, wanted.store)).id
    if wanted.ladder is not None:
        row.ladder = str(ladder.parse(wanted.ladder))
    if wanted.mode is not None:
        row.mode = wanted.mode
    row.decided_until = now  # due times before the change are not made up for
    row.version += 1


def _change_times(row: Routine, wanted: RoutineChange) -> None:
    when = phrase(wanted.when) if wanted.when is not None else row.when
    zone = wanted.zone or row.zone
    schedule.parse(when, zone)
    row.when, row.zone = when, zone
    if wanted.quiet is not None:
        schedule.quiet_hours(wanted.quiet)
        row.quiet = wanted.quiet.strip()
    if wanted.spread is not None:
        row.spread = wanted.spread
    for field in _NUMBERS:
        if (value := getattr(wanted, field)) is not None:
            setattr(row, field, value)


async def remove(session: AsyncSession, name: str) -> Routine:
    """Remove a routine; its backups stay."""
    row = await named(session, Routine, name)
    await session.delete(row)
    return row


async def take_now(context: Context, session: AsyncSession, row: Routine, by: str) -> None:
    """One take per system; a busy system waits for its next due time."""
    for system in await routines.members(session, row):
        with contextlib.suppress(Conflict):
            await new_runs.enqueue(
                session,
                TakeOrder(parts=row.parts),
                new_runs.About(
                    system_id=system.id,
                    store_id=row.store_id,
                    routine_id=row.id,
                    backup_id=secrets.token_hex(16),
                ),
                by=by,
                now=context.now(),
            )
