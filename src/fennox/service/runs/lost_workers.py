"""Finding runs whose worker is gone, whatever the clocks say, and queueing them again or ending
them.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Run
from fennox.service.runs import queue

_RENEWED_WITHIN = 0.5  # of a lease: a living worker renews it after a third


@dataclass(frozen=True)
class _Watched:
    """A lease as first seen: holder, expiry, and the time of that by a monotonic clock."""

    fence: int
    until: datetime
    since: float


@dataclass
class LeaseWatch:
    """Finds runs whose worker is gone, whatever the database's clock says.

    A living worker renews its lease every third of its duration. So a lease unchanged for its whole
    duration has expired, even if a fast clock set it far into the future. And a lease past its end
    has not expired until its worker had time to renew it, as after a step of the clock.
    """

    lease_seconds: float
    monotonic: Callable[[], float] = time.monotonic
    _seen: dict[str, _Watched] = field(default_factory=dict)

    async def take_back(self, session: AsyncSession, now: datetime) -> list[str]:
        """Queue runs again whose worker is gone, or fail them after too many attempts."""
        leases = select(Run.id, Run.fence, Run.lease_until, Run.lease_until < func.now())
        rows = (await session.execute(leases.where(Run.state == constant("running")))).all()
        at = self.monotonic()
        watched: dict[str, _Watched] = {}
        over: list[str] = []
        for run, fence, until, past in rows:
            if until is None:
                continue  # every active run has one; without it nothing is known about its worker
            known = self._seen.get(run)
            if known is None or (known.fence, known.until) != (fence, until):
                known = _Watched(fence, until, at)
            watched[run] = known
            if at - known.since >= self.lease_seconds * (_RENEWED_WITHIN if past else 1):
                over.append(run)
        self._seen = watched
        return await _take_back(session, over, watched, now) if over else []


async def _take_back(
    session: AsyncSession, over: list[str], watched: Mapping[str, _Watched], now: datetime
) -> list[str]:
    """Runs with expired leases that their workers have not just renewed."""
    lost = (
        select(Run)
        .where(Run.id.in_(over), Run.state == constant("running"))
        .with_for_update(skip_locked=True)
    )
    found = []
    for run in (await session.execute(lost)).scalars():
        if (run.fence, run.lease_until) != (watched[run.id].fence, watched[run.id].until):
            continue
        found.append(run.id)
        run.fence += 1
        if run.stop_asked:
            run.reason, run.remedy = "The run was stopped while its worker was gone.", ""
            await queue.end(session, run, "stopped", now)
        elif run.attempt >= queue.MAX_ATTEMPTS:
            run.reason = f"Its worker died {run.attempt} times."
            run.remedy, run.problem = (
                "Look at the workers' log, then start it again.",
                "worker-died",
            )
            await queue.end(session, run, "failed", now)
        else:
            await queue.put_off(session, run, 0, now)
    return found
