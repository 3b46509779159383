"""Decides what is due, one process at a time, and marks what the ladders let go."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import AsyncGenerator, Awaitable, Callable, Sequence
from contextlib import aclosing
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Numeric, func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Backup, Routine, Run, System
from fennox.core import schedule
from fennox.core.errors import Conflict, TryLater
from fennox.core.format import notes
from fennox.core.time import stamp
from fennox.service import alerting, crowding, differing, handing, noting, queue, routines, upkeep, watching
from fennox.service.context import Context
from fennox.service.newest import among, unhurried
from fennox.service.routines import Standing
from fennox.service.turns import give_way

log: Any = structlog.get_logger()

_DECIDING = 7202  # advisory lock: one process decides at a time
_REAL_PAUSE, _SIMULATED_PAUSE = 1.0, 0.05  # seconds
_DECIDE_EVERY = timedelta(seconds=1)  # by the clock that is given, which may jump
_NEVER = timedelta(days=1)  # until a rule that has ended is looked at again
_LOOK_EVERY = timedelta(seconds=15)
_MARK_EVERY = timedelta(hours=1)
_TOGETHER = 200  # rows
_SYSTEMS = 25  # whose backups are asked for at one time
_TURN = 5  # systems whose ladders are worked out before others get their turn of this thread
_WATCH_EVERY = 60.0  # seconds of the machine's own clock


@dataclass
class Scheduler:
    """Decides while it runs: at every second of its clock, and again while something is left over.

    Its duties go on beside each other: what a slow far side or a mistake keeps one of them from, the others still do.
    """

    context: Context
    _decided: datetime | None = None
    _known: Memory = field(default_factory=lambda: Memory())
    _left_over: bool = False
    _looked: datetime | None = None
    _swept: datetime | None = None

    async def run(self) -> None:
        pause = _SIMULATED_PAUSE if self.context.simulated else _REAL_PAUSE
        async with asyncio.TaskGroup() as duties:
            duties.create_task(_again_and_again(self._decide, pause))
            duties.create_task(_again_and_again(self._look, pause))
            duties.create_task(_again_and_again(self._tend, pause))
            duties.create_task(_again_and_again(self._alert, pause))
            duties.create_task(_again_and_again(self._watch, _WATCH_EVERY))

    async def _decide(self) -> None:
        now = self.context.now()
        if self._decided is None or abs(now - self._decided) >= _DECIDE_EVERY or self._left_over:
            self._left_over = await decide(self.context, self._known)
            self._decided = now

    async def _look(self) -> None:
        now = self.context.now()
        if self._looked is None or abs(now - self._looked) >= _LOOK_EVERY:
            await differing.decide(self.context)
            self._looked = now

    async def _tend(self) -> None:
        now = self.context.now()
        if self._swept is None or now - self._swept >= _MARK_EVERY:
            await mark_expired(self.context)
            await crowding.thin_out(self.context)
            await upkeep.tend(self.context)
            self._swept = now

    async def _alert(self) -> None:
        await alerting.send_due(self.context)

    async def _watch(self) -> None:
        await upkeep.watch(self.context)
        await noting.tell_pending(self.context)
        await handing.forget_left_over(self.context)
        async with self.context.session() as session:
            await watching.look(self.context, session)


async def _again_and_again(duty: Callable[[], Awaitable[None]], pause: float) -> None:
    """Until cancelled. A mistake in one round must not end a duty for ever, so it is told, and the next round comes."""
    while True:
        try:
            await duty()
        except TryLater as error:
            log.warning("database out of reach", reason=error.what)
        except Exception:
            log.exception("a mistake in Fennox kept the scheduler from something; it goes on", duty=duty.__name__)
        await asyncio.sleep(pause)


@dataclass
class Memory:
    """What one process remembers of each routine (as it stands) and system; forgetting it costs only time.

    ``decided``: the newest due time that was decided. ``later``: before that moment there is nothing to look at.
    """

    decided: dict[tuple[str, int], dict[str, datetime]] = field(default_factory=dict)
    later: dict[tuple[str, int, str], datetime] = field(default_factory=dict)
    estate: str = ""  # as it was when all of it was looked at; before ``nothing_before`` nothing of it is due
    nothing_before: datetime | None = None


async def decide(context: Context, memory: Memory | None = None) -> bool:
    """Queue what is due; tells whether something had to wait for an active run of its system.

    Deciding twice is harmless: a routine, a system and a due time are unique together.
    """
    memory = memory or Memory()
    left_over = False
    async with context.session() as session:
        if not (await session.execute(text(f"select pg_try_advisory_xact_lock({_DECIDING})"))).scalar_one():
            return True
        every = (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all()
        estate = await _estate(session, every)
        if memory.estate == estate and memory.nothing_before is not None and context.now() < memory.nothing_before:
            return False
        memory.estate, memory.nothing_before = estate, None
        following = context.now() + _NEVER
        systems: list[System] = [row[0] for row in await unhurried(session, select(System))]
        systems.sort(key=lambda row: row.name)
        due: list[Due] = []
        for routine in every:
            if (routine.id, routine.version) not in memory.decided:
                memory.decided[routine.id, routine.version] = await _decided(session, routine)
            for number, system in enumerate(systems):
                if number % _TOGETHER == 0:
                    await give_way(session)
                if system.suspended_because or system.retired or not routines.selects(routine.systems, system):
                    continue
                if (found := _due(context.now(), routine, system, memory)) is not None:
                    due.append(found)
                following = min(following, memory.later.get((routine.id, routine.version, system.id), context.now()))
        # who was served longest ago goes first, or of two routines of one system the second might never come
        for found in sorted(due, key=lambda one: one.since):
            left_over |= not await _queue(context, session, found, memory)
    memory.nothing_before = None if left_over else following
    return left_over


async def _estate(session: AsyncSession, every: Sequence[Routine]) -> str:
    """A digest of what decides who is taken; while it stands, and nothing is due, nobody needs to be looked at."""
    said = func.concat_ws("|", System.id, System.version, System.suspended_because, System.retired, System.labels)
    of_systems = func.sum(func.hashtextextended(said, 0).cast(Numeric))
    systems = (await session.execute(select(func.count(), of_systems).select_from(System))).one()
    return f"{systems} {sorted((routine.id, routine.version) for routine in every)}"


async def _decided(session: AsyncSession, routine: Routine) -> dict[str, datetime]:
    last = select(Run.system_id, func.max(Run.due)).where(Run.routine_id == routine.id, Run.due.is_not(None))
    rows = await session.execute(last.group_by(Run.system_id))
    return {str(system): due for system, due in rows if due is not None}


@dataclass(frozen=True)
class Due:
    """A take that is due by a routine. ``since``: up to when its due times were decided."""

    routine: Routine
    system: System
    since: datetime
    at: datetime


def _due(now: datetime, routine: Routine, system: System, memory: Memory) -> Due | None:
    key = (routine.id, routine.version, system.id)
    if now < memory.later.get(key, now):
        return None
    decided = memory.decided[routine.id, routine.version]
    since = max(filter(None, (routine.decided_until, system.created, decided.get(system.id))))
    place = schedule.place_in(routine.spread, system.id)
    plan = schedule.parse(routine.when, routine.zone)
    due = plan.newest_due(since, now - place)
    if due is None:
        following = plan.after(max(since, now - place))
        memory.later[key] = following + place if following is not None else now + _NEVER
        return None
    if (begins := routines.begins(routine, max(due + place, now))) > now:
        memory.later[key] = begins
        return None
    return Due(routine, system, since, due)


async def _queue(context: Context, session: AsyncSession, due: Due, memory: Memory) -> bool:
    """Whether nothing is left to decide for this pair."""
    routine, system = due.routine, due.system
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
            due=due.at,
            order={"name": "", "note": "", "parts": routine.parts},
        )
    except Conflict as error:
        if not error.fields.get("decided"):
            return False  # a run of this system is active; it is decided again when that has ended
    memory.decided[routine.id, routine.version][system.id] = due.at
    return True


async def mark_expired(context: Context) -> None:
    """Mark backups that nothing keeps any more, in the catalogue and by a note in each store."""
    async with context.session() as session:
        all_routines = list((await session.execute(select(Routine))).scalars())
        gone: list[str] = []
        every = [row for (row,) in await unhurried(session, select(System))]
        async with aclosing(_backups_of_each(session, every)) as each:
            async for system, held in each:
                mine = [routine for routine in all_routines if routines.selects(routine.systems, system)]
                why = routines.what_keeps(system, held, mine, context.now())
                gone += [backup for backup, reasons in why.items() if not reasons]
        for first in range(0, len(gone), _TOGETHER):
            rows = await session.execute(select(Backup).where(among(Backup.id, gone[first : first + _TOGETHER])))
            await _mark(context, session, rows.scalars().all())


async def _backups_of_each(
    session: AsyncSession, every: Sequence[System]
) -> AsyncGenerator[tuple[System, list[Standing]], None]:
    """Each system with its backups; the database looks for the next ones while these are gone through."""

    def begin(first: int) -> asyncio.Task[dict[str, list[Standing]]]:
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


async def _mark(context: Context, session: AsyncSession, backups: Sequence[Backup]) -> None:
    for backup in backups:
        said = notes.Note(
            fact="expired", backup=backup.id, system=backup.system_id, time=stamp(context.now()), by="ladder",
            reason="no rung of its ladders keeps it",
        )  # fmt: skip
        await noting.tell(context, session, backup, said)
        backup.expired = True
