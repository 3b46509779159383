"""Decides what is due, one process at a time, and marks what the ladders let go."""

from __future__ import annotations

import asyncio
import secrets
import time
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Backup, Routine, Run, System
from fennox.core import schedule
from fennox.core.errors import Conflict, TryLater
from fennox.core.format import notes
from fennox.core.time import stamp
from fennox.service import noting, queue, routines, upkeep
from fennox.service.context import Context

log: Any = structlog.get_logger()

_DECIDING = 7202  # advisory lock: one process decides at a time
_REAL_PAUSE, _SIMULATED_PAUSE = 1.0, 0.05  # seconds
_DECIDE_EVERY = timedelta(seconds=1)  # by the clock that is given, which may jump
_MARK_EVERY = timedelta(hours=1)
_WATCH_EVERY = 60.0  # seconds of the machine's own clock


@dataclass
class Scheduler:
    """Decides while it runs: at every second of its clock, and again while something is left over."""

    context: Context
    _decided: datetime | None = None
    _left_over: bool = False
    _swept: datetime | None = None
    _watched: float = float("-inf")

    async def run(self) -> None:
        pause = _SIMULATED_PAUSE if self.context.simulated else _REAL_PAUSE
        while True:
            try:
                now = self.context.now()
                if self._decided is None or abs(now - self._decided) >= _DECIDE_EVERY or self._left_over:
                    self._left_over = await decide(self.context)
                    self._decided = now
                if self._swept is None or now - self._swept >= _MARK_EVERY:
                    await mark_expired(self.context)
                    await upkeep.tend(self.context)
                    self._swept = now
                if time.monotonic() - self._watched >= _WATCH_EVERY:
                    await upkeep.watch(self.context)
                    await noting.tell_pending(self.context)
                    self._watched = time.monotonic()
            except TryLater as error:
                log.warning("database out of reach", reason=error.what)
            await asyncio.sleep(pause)


async def decide(context: Context) -> bool:
    """Queue what is due; tells whether something had to wait for an active run of its system.

    Deciding twice is harmless: a routine, a system and a due time are unique together.
    """
    left_over = False
    async with context.session() as session:
        if not (await session.execute(text(f"select pg_try_advisory_xact_lock({_DECIDING})"))).scalar_one():
            return True
        for routine in (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all():
            for system in await routines.members(session, routine):
                left_over |= not await _decide_one(context, session, routine, system)
    return left_over


async def _decide_one(context: Context, session: AsyncSession, routine: Routine, system: System) -> bool:
    """Whether nothing is left to decide for this pair."""
    last = select(func.max(Run.due)).where(Run.routine_id == routine.id, Run.system_id == system.id)
    decided = (await session.execute(last)).scalar_one_or_none()
    since = max(filter(None, (routine.decided_until, system.created, decided)))
    due = schedule.parse(routine.when, routine.zone).newest_due(since, context.now())
    if due is None:
        return True
    try:
        await queue.enqueue(
            session,
            "take",
            by=f"routine {routine.name}",
            now=context.now(),
            system_id=system.id,
            store_id=routine.store_id,
            routine_id=routine.id,
            backup_id=secrets.token_hex(16),
            due=due,
            order={"name": "", "note": "", "parts": routine.parts},
        )
    except Conflict:
        return False  # a run of this system is active; it is decided again when that has ended
    return True


async def mark_expired(context: Context) -> None:
    """Mark backups that nothing keeps any more, in the catalogue and by a note in each store."""
    async with context.session() as session:
        all_routines = list((await session.execute(select(Routine))).scalars())
        gone: list[Backup] = []
        for system in (await session.execute(select(System))).scalars().all():
            mine = [routine for routine in all_routines if routines.selects(routine.systems, system)]
            backups = await routines.backups_of(session, system.id)
            why = routines.reasons([backup for backup in backups if not backup.expired], mine, context.now())
            gone += [backup for backup in backups if not backup.expired and not why[backup.id]]
        for backup in gone:
            said = notes.Note(
                fact="expired", backup=backup.id, system=backup.system_id, time=stamp(context.now()), by="ladder",
                reason="no rung of its ladders keeps it",
            )  # fmt: skip
            await noting.tell(context, session, backup, said)
            backup.expired = True
