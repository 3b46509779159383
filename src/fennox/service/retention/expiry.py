"""Marking backups no ladder keeps any more: the first of three stages of removal
(``core.retention.removal``).
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, Sequence
from contextlib import aclosing
from datetime import datetime

from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.systems import System
from fennox.core.format import notes
from fennox.core.time import stamp
from fennox.service.backups import note_delivery
from fennox.service.foundation.fair_share import give_way
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import among, unhurried
from fennox.service.retention import routines
from fennox.service.retention.routines import StandingBackup

LADDER = "ladder"  # who marked it, if not a person

_TOGETHER = 200  # rows
_SYSTEMS = 25  # whose backups are asked for at one time
_TURN = 5  # systems processed before yielding this thread


async def mark_expired(context: Context) -> None:
    """Mark backups that nothing keeps any more, in the catalogue and by a note for each store.

    One round marks everything with the same moment, so that unusual rounds can be detected. Systems
    whose backups' dates contradict their order are recorded: only a person knows which date is
    wrong.
    """
    now = context.now()
    async with context.session() as session:
        all_routines = list((await session.execute(select(Routine))).scalars())
        gone: list[str] = []
        every = [row for (row,) in await unhurried(session, select(System))]
        async with aclosing(_backups_of_each(session, every)) as each:
            async for system, held in each:
                mine = [
                    routine for routine in all_routines if selectors.takes(routine.systems, system)
                ]
                why = routines.what_keeps(system, held, mine, now)
                gone += [backup for backup, reasons in why.items() if not reasons]
                if system.disordered != (disordered := routines.disordered(held, now)):
                    system.disordered = disordered
        for first in range(0, len(gone), _TOGETHER):
            rows = await session.execute(
                select(Backup).where(among(Backup.id, gone[first : first + _TOGETHER]))
            )
            for backup in rows.scalars().all():
                await mark(session, backup, now, LADDER, "no rung of its ladders keeps it")


async def mark(session: AsyncSession, backup: Backup, now: datetime, by: str, reason: str) -> None:
    backup.expired, backup.expired_at, backup.expired_by = True, now, by
    said = notes.Note(
        fact="expired",
        backup=backup.id,
        system=backup.system_id,
        time=stamp(now),
        by=by,
        reason=reason,
    )
    await note_delivery.tell(session, backup, said)


async def unmark(
    session: AsyncSession, backup: Backup, now: datetime, by: str, reason: str
) -> None:
    """Take a mark back, which is possible until a sweep has removed the backup."""
    backup.expired, backup.expired_at, backup.expired_by = False, None, ""
    copies = update(Copy).where(Copy.backup_id == backup.id)
    await session.execute(
        copies.values(let_go=False, let_go_at=None, removable_since=None).execution_options(
            synchronize_session=False
        )
    )
    said = notes.Note(
        fact="kept",
        backup=backup.id,
        system=backup.system_id,
        time=stamp(now),
        by=by,
        reason=reason,
    )
    await note_delivery.tell(session, backup, said)


async def unmark_what_is_kept_again(
    session: AsyncSession, marked: Sequence[str], now: datetime
) -> list[str]:
    """Unmark backups that a ladder keeps after all, as after lengthening it."""
    rows = select(Backup).where(
        among(Backup.id, marked), Backup.expired_by == LADDER, Backup.expired
    )
    backups = {backup.id: backup for backup in (await session.execute(rows)).scalars()}
    systems = {backup.system_id for backup in backups.values()}
    all_routines = list((await session.execute(select(Routine))).scalars())
    held = await routines.backups_of(session, sorted(systems))
    kept: list[str] = []
    for system in (
        (await session.execute(select(System).where(among(System.id, systems)))).scalars().all()
    ):
        mine = [routine for routine in all_routines if selectors.takes(routine.systems, system)]
        why = routines.what_keeps(system, held[system.id], mine, now)
        kept += [backup for backup in backups if why.get(backup)]
    for backup in kept:
        await unmark(session, backups[backup], now, LADDER, "its ladder keeps it again")
    return kept


async def _backups_of_each(
    session: AsyncSession, every: Sequence[System]
) -> AsyncGenerator[tuple[System, list[StandingBackup]], None]:
    """Each system with its backups; the next batch is fetched meanwhile."""

    def begin(first: int) -> asyncio.Task[dict[str, list[StandingBackup]]]:
        ids = [system.id for system in every[first : first + _SYSTEMS]]
        return asyncio.create_task(routines.backups_of(session, ids, expired=False))

    coming = begin(0)
    try:
        for first in range(0, len(every), _SYSTEMS):
            held = await coming
            if first + _SYSTEMS < len(every):
                coming = begin(first + _SYSTEMS)
            for number, system in enumerate(every[first : first + _SYSTEMS]):
                if number % _TURN == 0:
                    await give_way(session)
                yield system, held[system.id]
    finally:
        await asyncio.wait([coming])


async def keep_on_hold(
    context: Context, session: AsyncSession, backup: Backup, reason: str, by: str
) -> None:
    """Unmark a backup and hold it. Possible until a sweep removes it."""
    let_go = select(Copy.let_go).where(Copy.backup_id == backup.id, Copy.let_go)
    if backup.expired or await session.scalar(let_go):
        await unmark(session, backup, context.now(), by, reason)
    await note_delivery.set_hold(context, session, backup, reason, by, on=True)
