"""Assigning the next run to a worker, with a lease."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any, NamedTuple

from sqlalchemy import (
    ColumnElement,
    Interval,
    Select,
    String,
    and_,
    bindparam,
    func,
    literal_column,
    not_,
    or_,
    select,
    table,
    true,
    union_all,
    update,
)
from sqlalchemy.orm import aliased
from sqlalchemy.sql.dml import ReturningUpdate

from fennox.catalogue import schema
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import PEOPLE, Routine, Run
from fennox.catalogue.models.systems import KindRow, Site, System
from fennox.core.facts.run_orders import RunKind
from fennox.service.runs.progress_log import CHANNEL
from fennox.service.runs.queue import LONGEST_PAUSE, RUNS, Database, Lease

_PEOPLE, _NO_ROUTINE = constant(PEOPLE), constant("")


_ONE: ColumnElement[int] = literal_column("1")


_WAITS = (Run.state == constant("queued")).is_(True)
"""Put as no other index has it: a database that believes that hardly anything waits takes any, and
reads all of it.
"""


_KINDS = (
    select(func.concat(func.count(), " ", func.max(KindRow.added)))
    .select_from(KindRow)
    .scalar_subquery()
)


_OUR_SCHEMA = select(literal_column("version_num", String)).select_from(
    table("alembic_version")
).scalar_subquery() == (constant(schema.NUMBER))
"""Nothing is claimed once a newer Fennox has changed the tables: what an older one wrote there
could be wrong.
"""


_REACHES = ("take", "look", "draft", "restore")  # kinds of runs that connect to a machine


@dataclass(frozen=True)
class Claimant:
    """Runs a worker accepts: at these sites, and (``near``) those that need no site's worker.
    ``people_only``: only runs people wait for.
    """

    worker: str
    sites: frozenset[str] = frozenset()
    near: bool = True
    people_only: bool = False


class ClaimedRun(NamedTuple):
    """``kind``: of the run; ``kinds``: a stamp that changes when a kind is added."""

    kind: RunKind
    lease: Lease
    kinds: str


async def claim(
    database: Database, claimant: Claimant, lease_seconds: float, now: datetime
) -> ClaimedRun | None:
    """Take the next run of the queue. A person's run goes first. Scheduled runs are ordered by
    their routine's number of active runs, so that a routine of a thousand systems does not delay
    one of three.
    """
    chosen = _next(claimant.sites, claimant.near, claimant.people_only)
    begun = {"now": now, "worker": claimant.worker, "seconds": timedelta(seconds=lease_seconds)}
    row = (await database.execute(chosen, begun)).one_or_none()
    return (
        ClaimedRun(row.kind, Lease(row.id, row.fence, row.attempt), row.kinds)
        if row is not None
        else None
    )


@lru_cache(maxsize=64)
def _next(sites: frozenset[str], near: bool, people_only: bool) -> ReturningUpdate[Any]:
    """Takes the next run, notifies its followers, and returns what a worker needs. Only the oldest
    of each lane is considered.
    """
    chosen = _first(sites, near, people_only)
    return (
        update(RUNS)
        .where(Run.id == chosen.scalar_subquery())
        .values(
            state="running",
            worker=bindparam("worker"),
            fence=Run.fence + 1,
            attempt=Run.attempt + 1,
            lease_until=func.now() + bindparam("seconds", type_=Interval),
            started=func.coalesce(Run.started, bindparam("now")),
        )
        .returning(
            Run.id,
            Run.kind,
            Run.fence,
            Run.attempt,
            _KINDS.label("kinds"),
            func.pg_notify(CHANNEL, Run.id),
        )
    )


def _first(sites: frozenset[str], near: bool, people_only: bool) -> Select[str]:
    """The id of the next run."""
    ran = aliased(Run)
    going_on = (
        select(func.coalesce(ran.routine_id, _NO_ROUTINE).label("lane"), func.count().label("runs"))
        .where(ran.state == constant("running"))
        .group_by(func.coalesce(ran.routine_id, _NO_ROUTINE))
        .subquery()
    )
    every = [select(_PEOPLE.label("lane"))]
    if not people_only:
        every += [select(_NO_ROUTINE.label("lane")), select(Routine.id.label("lane"))]
    lanes = union_all(*every).subquery("lanes")
    oldest = (
        select(Run.id, Run.queued_at)
        .where(_WAITS, Run.lane == lanes.c.lane, Run.behind.is_(None), _OUR_SCHEMA)
        .where(_waited_for(), _within_reach(sites, near))
        .order_by(Run.queued_at)
        .limit(_ONE)
        .with_for_update(skip_locked=True, of=Run)
        .lateral("oldest")
    )
    return (
        select(oldest.c.id)
        .select_from(
            lanes.join(oldest, true()).outerjoin(going_on, going_on.c.lane == lanes.c.lane)
        )
        .order_by(lanes.c.lane != _PEOPLE, func.coalesce(going_on.c.runs, 0), oldest.c.queued_at)
        .limit(_ONE)
    )


def _waited_for() -> ColumnElement[bool]:
    """Its delay is over; a delay beyond the maximum stems from a database clock that has since gone
    back.
    """
    return or_(
        Run.not_before.is_(None),
        Run.not_before <= func.now(),
        Run.not_before > func.now() + LONGEST_PAUSE,
    )


def _within_reach(sites: frozenset[str], near: bool) -> ColumnElement[bool]:
    of_run = select(System.id).where(System.id == Run.system_id, System.login_id.is_not(None))
    reaches = Run.kind.in_(_REACHES)
    here = and_(reaches, of_run.where(System.site.in_(sites)).exists())
    if not near:
        return here
    return or_(here, not_(and_(reaches, of_run.where(System.site.in_(select(Site.name))).exists())))
