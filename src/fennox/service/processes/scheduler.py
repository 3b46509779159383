"""Decides what is due, one process at a time, and looks after stores and ladders while the clock is
believed.
"""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Awaitable, Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Numeric, func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Routine, Run, System
from fennox.core.errors import Conflict, TryLater
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.schedule import moments, schedule
from fennox.service.backups import note_delivery
from fennox.service.concerns import alert_messages, estate_watch
from fennox.service.foundation.alarm import Alarm
from fennox.service.foundation.fair_share import give_way
from fennox.service.foundation.notifications import CHANGED, listen
from fennox.service.machines.context import Context
from fennox.service.own_state import audit_chain
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import unhurried
from fennox.service.retention import expiry, routines
from fennox.service.runs import queue
from fennox.service.takes import hand_ins, look_run
from fennox.service.upkeep import catalogue_sync, clock_evidence, over_ceiling, store_duties

log: Any = structlog.get_logger()

_DECIDING = 7202  # advisory lock: one process decides at a time
_TICK = 1.0  # seconds between two looks at the clock
_SOON_SIMULATED = 0.05  # seconds
_SOON = 1.0  # seconds, after a mistake or while something is left over
_DOUBTFUL_PAUSE = 5.0  # seconds between two looks whether the clocks agree again
_NEVER = timedelta(days=1)  # until a rule that has ended is looked at again
_LOOK_EVERY = timedelta(seconds=15)
_MARK_EVERY = timedelta(hours=1)
_TOGETHER = 200  # rows
# seconds that really pass; so often the other duties look as well, should nobody have told them
_WATCH_EVERY = 60.0


@dataclass
class Scheduler:
    """Carries out its duties while it runs, each when there is something to do: at a moment, or on
    a notification.

    They go on beside each other: what a slow far side or a mistake keeps one of them from, the
    others still do.
    """

    context: Context
    _known: Memory = field(default_factory=lambda: Memory())
    _alarms: dict[str, Alarm] = field(default_factory=dict)

    async def run(self) -> None:
        duties: dict[str, Duty] = {
            "decide": self._decide,
            "look": self._look,
            "tend": self._tend,
            "alert": self._alert,
            "audit": self._audit,
            "watch": self._watch,
        }
        self._alarms = {
            name: Alarm(_WATCH_EVERY if name != "tend" else _MARK_EVERY.total_seconds())
            for name in duties
        }
        for alarm in self._alarms.values():
            alarm.set(
                self.context.now(), None, _SOON
            )  # at once when it is listened to, so that nothing is missed
        async with asyncio.TaskGroup() as together:
            for name, duty in duties.items():
                together.create_task(self._again_and_again(name, duty))
            together.create_task(self._tick())
            together.create_task(listen(self.context.settings.database, CHANGED, self._heard))

    def _heard(self, duty: str) -> None:
        """Somebody told what ``duty`` goes by; nobody knows what it was: it may have been
        anything.
        """
        for name, alarm in self._alarms.items():
            if not duty or name == duty:
                alarm.call()

    async def _tick(self) -> None:
        """Look at the clock, which costs nothing, so that a jump of it is seen as soon as a due
        time that comes.

        One that is simulated tells when it was set.
        """
        while True:
            self.context.clock_set.clear()
            now = self.context.now()
            for alarm in self._alarms.values():
                alarm.look(now)
            with suppress(TimeoutError):
                async with asyncio.timeout(_TICK):
                    await self.context.clock_set.wait()

    async def _again_and_again(self, name: str, duty: Duty) -> None:
        """Until cancelled. A mistake in one round must not end a duty for ever, so it is told, and
        the next one comes.

        A process that a newer Fennox has taken the database from does nothing more.
        """
        alarm = self._alarms[name]
        while True:
            await alarm.wait()
            begun, following = self.context.now(), Next(within=_SOON)
            try:
                if not self.context.outdated:
                    following = await duty()
            except TryLater as error:
                log.warning("database out of reach", reason=error.what)
            except Exception:
                log.exception(
                    "a mistake in Fennox kept the scheduler from something; it goes on", duty=name
                )
            alarm.set(begun, following.at, following.within)
            if following.within is not None and following.within < _TICK:
                asyncio.get_running_loop().call_later(following.within, alarm.call)

    async def _decide(self) -> Next:
        if await decide(self.context, self._known):
            return Next(within=_SOON_SIMULATED if self.context.simulated else _SOON)
        return Next(at=self._known.nothing_before)

    async def _look(self) -> Next:
        await look_run.decide(self.context)
        return Next(at=self.context.now() + _LOOK_EVERY)

    async def _tend(self) -> Next:
        believed = await tend(self.context)
        return Next(
            at=self.context.now() + _MARK_EVERY, within=None if believed else _DOUBTFUL_PAUSE
        )

    async def _alert(self) -> Next:
        return Next(at=await alert_messages.send_due(self.context))

    async def _audit(self) -> Next:
        async with self.context.session(lasting=False) as session:
            return Next(within=_SOON if await audit_chain.chain(self.context, session) else None)

    async def _watch(self) -> Next:
        await store_duties.watch(self.context)
        await store_duties.try_again(self.context)
        await note_delivery.deliver(self.context)
        await hand_ins.forget_left_over(self.context)
        async with self.context.session() as session:
            await estate_watch.look(self.context, session)
        return Next()


@dataclass(frozen=True)
class Next:
    """When a duty runs again unless it is notified before: at a moment, or after so many
    seconds.
    """

    at: datetime | None = None
    within: float | None = None


Duty = Callable[[], Awaitable[Next]]


async def tend(context: Context) -> bool:
    """Mark what ladders let go, thin out full stores, queue what stores are due for. False: the
    clock is in doubt.
    """
    async with context.session() as session:
        judged = await clock_evidence.judge(context, session)
        if judged.doubts:
            await clock_evidence.suspect(session, judged)
    if judged.doubts:
        log.warning(
            "the clocks disagree; nothing is marked, thinned or swept", doubts=judged.sentences
        )
        return False
    await expiry.mark_expired(context)
    await over_ceiling.thin_out(context)
    await store_duties.tend(context)
    async with context.session() as session:
        await clock_evidence.tended(session, judged.evidence.now)
        await catalogue_sync.forget_old_removals(session, judged.evidence.now)
    return True


@dataclass
class Memory:
    """What one process remembers of each routine (as it stands) and system; forgetting it costs
    only time.

    ``decided``: the due time that was decided last. ``later``: before that moment there is nothing
    to look at. ``seen``: the newest moment by which it was decided; a clock that goes back makes
    all of it worthless.
    """

    decided: dict[tuple[str, int], dict[str, datetime]] = field(default_factory=dict)
    later: dict[tuple[str, int, str], datetime] = field(default_factory=dict)
    estate: str = (
        ""  # as it was when all of it was looked at; before ``nothing_before`` nothing of it is due
    )
    nothing_before: datetime | None = None
    seen: datetime | None = None

    def forget_the_future(self, now: datetime) -> None:
        if self.seen is not None and moments.is_future(self.seen, now):
            self.decided.clear()
            self.later.clear()
            self.nothing_before = None
        self.seen = now


async def decide(context: Context, memory: Memory | None = None) -> bool:
    """Queue what is due; tells whether something had to wait for an active run of its system.

    Deciding twice is harmless: a routine, a system and a due time are unique together.
    """
    memory = memory or Memory()
    memory.forget_the_future(context.now())
    left_over = False
    async with context.session() as session:
        if not (
            await session.execute(text(f"select pg_try_advisory_xact_lock({_DECIDING})"))
        ).scalar_one():
            return True
        every = (await session.execute(select(Routine).where(Routine.mode == "on"))).scalars().all()
        estate = await _estate(session, every)
        if (
            memory.estate == estate
            and memory.nothing_before is not None
            and context.now() < memory.nothing_before
        ):
            return False
        memory.estate, memory.nothing_before = estate, None
        following = context.now() + _NEVER
        systems: list[System] = [row[0] for row in await unhurried(session, select(System))]
        systems.sort(key=lambda row: row.name)
        due: list[Due] = []
        for routine in every:
            if (routine.id, routine.version) not in memory.decided:
                memory.decided[routine.id, routine.version] = await routines.decided_last(
                    session, routine
                )
            for number, system in enumerate(systems):
                if number % _TOGETHER == 0:
                    await give_way(session)
                if (
                    system.suspended_because
                    or system.retired
                    or not selectors.selects(routine.systems, system)
                ):
                    continue
                if (found := _due(context.now(), routine, system, memory)) is not None:
                    due.append(found)
                following = min(
                    following,
                    memory.later.get((routine.id, routine.version, system.id), context.now()),
                )
        # who was served longest ago goes first, or of two routines of one system the second might
        # never come
        for found in sorted(due, key=lambda one: one.since):
            left_over |= not await _queue(context, session, found, memory)
    memory.nothing_before = None if left_over else following
    return left_over


async def _estate(session: AsyncSession, every: Sequence[Routine]) -> str:
    """A digest of what decides who is taken; while it stands, and nothing is due, nobody needs to
    be looked at.
    """
    said = func.concat_ws(
        "|", System.id, System.version, System.suspended_because, System.retired, System.labels
    )
    of_systems = func.sum(func.hashtextextended(said, 0).cast(Numeric))
    systems = (await session.execute(select(func.count(), of_systems).select_from(System))).one()
    return f"{systems} {sorted((routine.id, routine.version) for routine in every)}"


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
    place = schedule.place_in(routine.spread, system.id)
    plan = schedule.parse(routine.when, routine.zone)
    since = routines.decided_up_to(now, routine, system, decided.get(system.id))
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
    try:
        try:
            await _enqueue(context, session, due, due.at)
        except Conflict as error:
            if not error.fields.get("decided"):
                raise
            if await _decided_before_the_clock_went_back(session, due):
                await _enqueue(context, session, due, None)
    except Conflict:
        return False  # a run of this system is active; it is decided again when that has ended
    memory.decided[due.routine.id, due.routine.version][due.system.id] = due.at
    return True


async def _enqueue(context: Context, session: AsyncSession, due: Due, at: datetime | None) -> None:
    routine, system = due.routine, due.system
    await queue.enqueue(
        session,
        TakeOrder(parts=routine.parts),
        queue.About(
            system_id=system.id,
            store_id=routine.store_id,
            routine_id=routine.id,
            backup_id=secrets.token_hex(16),
        ),
        by=f"routine {routine.name}",
        now=context.now(),
        due=at,
    )


async def _decided_before_the_clock_went_back(session: AsyncSession, due: Due) -> bool:
    """Whether a due time comes a second time, as by a clock that went back a year. Takes go on all
    the same.

    Else another process decided it just now. A run without a due time that was queued since shows
    that it was decided this time, too.
    """
    mine = (Run.routine_id == due.routine.id, Run.system_id == due.system.id)
    numbered = select(func.max(Run.number)).where(*mine, Run.due == due.at)
    then = (await session.execute(numbered)).scalar_one_or_none() or 0
    last = (
        await session.execute(select(func.max(Run.number)).where(*mine, Run.due.is_not(None)))
    ).scalar_one()
    again = select(Run.id).where(*mine, Run.due.is_(None), Run.number > last, Run.created >= due.at)
    return then < last and (await session.execute(again.limit(1))).first() is None
