"""The scheduler: decides what is due, in one process at a time, and maintains stores and ladders
while the clock is trusted.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import structlog

from fennox.core.errors import TryLater
from fennox.service.backups import note_delivery
from fennox.service.concerns import alert_messages, estate_watch
from fennox.service.drops import arrivals
from fennox.service.drops.spools import has_spool
from fennox.service.foundation.alarm import Alarm
from fennox.service.foundation.notifications import CHANGED, listen
from fennox.service.machines.context import Context
from fennox.service.own_state import audit_chain
from fennox.service.processes.due_takes import Memory, decide
from fennox.service.retention import expiry
from fennox.service.takes import hand_ins, look_run, safety_copy
from fennox.service.upkeep import catalogue_sync, clock_evidence, over_ceiling, store_duties

log: Any = structlog.get_logger()

_TICK = 1.0  # seconds between checks of the clock
_SOON_SIMULATED = 0.05  # seconds
_SOON = 1.0  # seconds, after a mistake or while something is left over
_DOUBTFUL_PAUSE = 5.0  # seconds between checks whether the clocks agree again
_LOOK_EVERY = timedelta(seconds=15)
_MARK_EVERY = timedelta(hours=1)
# real seconds; the other duties also run this often, in case a notification was lost
_WATCH_EVERY = 60.0
_LOOK_AT_DROP = 2.0  # real seconds between looks at the spool


@dataclass
class Scheduler:
    """Runs its duties, each when there is something to do: at a moment, or on a notification.

    They run concurrently, so a slow far side or a mistake in one does not stop the others.
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
            "drops": self._drops,
        }
        self._alarms = {
            name: Alarm(_WATCH_EVERY if name != "tend" else _MARK_EVERY.total_seconds())
            for name in duties
        }
        for alarm in self._alarms.values():
            # immediately after listening starts, so that nothing is missed
            alarm.set(self.context.now(), None, _SOON)
        async with asyncio.TaskGroup() as together:
            for name, duty in duties.items():
                together.create_task(self._again_and_again(name, duty))
            together.create_task(self._tick())
            together.create_task(listen(self.context.settings.database, CHANGED, self._heard))

    def _heard(self, duty: str) -> None:
        """A notification for ``duty``. It does not say what changed, so anything may have."""
        for name, alarm in self._alarms.items():
            if not duty or name == duty:
                alarm.call()

    async def _tick(self) -> None:
        """Check the clock, which is cheap, so that jumps are noticed as soon as due times. A
        simulated clock reports changes itself.
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
        """Runs until cancelled. An error in one round must not end a duty, so it is logged and the
        next round follows. Stops for good once a newer Fennox has migrated the database.
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
                    "a mistake in Fennox interrupted the scheduler; it continues", duty=name
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

    async def _drops(self) -> Next:
        if not has_spool(self.context):  # nothing was ever received here
            return Next()
        return Next(at=await arrivals.decide(self.context), within=_LOOK_AT_DROP)

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
    """Mark backups no ladder keeps, thin out full stores, queue due store runs. False: the clock is
    in doubt.
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
    await safety_copy.release_settled(context)
    await expiry.mark_expired(context)
    await over_ceiling.thin_out(context)
    await store_duties.tend(context)
    async with context.session() as session:
        await clock_evidence.tended(session, judged.evidence.now)
        await catalogue_sync.forget_old_removals(session, judged.evidence.now)
    return True
