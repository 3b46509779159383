"""Problems of runs: hanging, failed, waiting for a person, or given up and not repeated."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import datetime, timedelta
from functools import cache
from typing import Any

from sqlalchemy import Row, Select, bindparam, exists, func, select
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Run, SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import Away, ConcernFound
from fennox.service.queries.newest_good import ENDED, newest_runs
from fennox.service.queries.selectors import PROTECTED
from fennox.service.upkeep import store_duties, sweep_run

_FOR_STORES = ("adopt", "scrub", "sweep", "verify", "rekey")  # kinds of runs
_TELLS_WITHIN = timedelta(hours=1)  # seconds between reports of an active run, at most


async def stuck(session: AsyncSession) -> AsyncIterator[ConcernFound]:
    """Active runs without a recent report: whatever they wait for hangs."""
    last = func.coalesce(Run.told, Run.queued_at)
    silent = select(Run, last, System.name, StoreRow.name).outerjoin(
        System, System.id == Run.system_id
    )
    silent = silent.outerjoin(StoreRow, StoreRow.id == Run.store_id)
    silent = silent.where(
        Run.state == "running", last < func.now() - _TELLS_WITHIN, Run.worker_key.is_(None)
    )
    for run, since, system, store in await session.execute(silent):
        about = system or store or run.kind
        where = f" at the step: {run.step}" if run.step else ""
        yield ConcernFound(
            "stuck",
            "high",
            "system" if system else "store" if store else "service",
            about,
            f"The {run.kind} of {about} has made no progress since {since:%Y-%m-%d %H:%M}"
            f" UTC{where}.",
            f"Look at what that step needs; stop the run: fennox run stop {run.id[:12]}",
            "A machine or store that hangs is not noticed in any other way.",
            since=since,
        )


_PURPOSE = SheetRow.data["purpose"].astext  # practice says nothing about the system


# built once: these run every minute, and building them takes longer than executing them
@cache
def _failed_runs() -> tuple[Select[Run, System], Select[Run, System]]:
    """Each system's last take or look if it failed, and failed restores not completed since."""
    failed = select(Run, System).join(System, System.id == Run.system_id).where(PROTECTED)
    take = newest_runs(Run.id, Run.state, fits=(*ENDED, Run.kind == constant("take"))).subquery()
    looks = (*ENDED, Run.kind.in_(("take", "look")))
    look = newest_runs(Run.id, Run.state, Run.kind, fits=looks).subquery()
    which = Run.id.in_(select(take.c.id).where(take.c.state == "failed")) | Run.id.in_(
        select(look.c.id).where(look.c.state == "failed", look.c.kind == "look")
    )
    restored = aliased(Run)
    over = exists().where(
        restored.system_id == Run.system_id,
        restored.kind == constant("restore"),
        restored.number > Run.number,
        restored.state == "done",
    )
    begun = Run.sheet_id.in_(
        select(SheetRow.id).where(
            SheetRow.state.in_(("failed", "not proved")), _PURPOSE.in_(("repair", "replace"))
        )
    )
    return failed.where(which), failed.where(
        begun & (Run.kind == constant("restore")) & (Run.state == "failed") & ~over
    )


async def failed(session: AsyncSession, away: Away) -> AsyncIterator[ConcernFound]:
    every = [row for statement in _failed_runs() for row in await session.execute(statement)]
    for run, system in {(system.name, run.kind): (run, system) for run, system in every}.values():
        yield ConcernFound(
            "failed",
            "high",
            "system",
            system.name,
            f"The last {run.kind} of {system.name} failed: {run.reason}",
            run.remedy,
            since=run.ended,
            cause=away.cause(run.store_id, system.site) or f"failed|{run.kind}|{run.reason}",
            together=f"The last {run.kind} of {{these}} failed: {run.reason}",
            subject="" if run.kind == "take" else run.kind,
        )
    waiting = (
        select(Run, System)
        .join(System, System.id == Run.system_id)
        .outerjoin(SheetRow, SheetRow.id == Run.sheet_id)
        .where(Run.state == "waiting", func.coalesce(_PURPOSE, "") != "practise")
    )
    for run, system in await session.execute(waiting):
        yield ConcernFound(
            "waiting",
            "high",
            "system",
            system.name,
            f"The {run.kind} of {system.name} waits: {run.reason}",
            run.remedy,
            since=run.started,
        )


async def sweeps(session: AsyncSession, now: datetime) -> list[ConcernFound]:
    """Removals a sweep postpones until a person has looked."""
    return [
        ConcernFound(
            "sweep-waits",
            "high",
            "system",
            one.system,
            f"{len(one.backups)} of {one.of} backups of {one.system} in {one.store} are marked"
            " to go"
            + (", the newest among them." if one.newest else ", more at one time than is usual."),
            f"See: fennox backup list --system {one.system}. Keep one: fennox backup keep ID. "
            f"Let them go: fennox store sweep {one.store} --confirm",
            "They stay until somebody has said which.",
            subject=one.store,
        )
        for one in await sweep_run.waiting(session, now)
    ]


_LAST_FOR_STORE = (
    select(Run.state, Run.reason, Run.remedy, Run.ended)
    .where(
        Run.store_id == bindparam("store"), Run.kind == bindparam("kind"), Run.system_id.is_(None)
    )
    .order_by(Run.number.desc())
    .limit(1)
)


async def given_up(session: AsyncSession, away: Away) -> AsyncIterator[ConcernFound]:
    """Failed work on stores not completed since, and backups that were not copied."""
    rows = (await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars().all()
    names = {row.id: row.name for row in rows}
    for store, name in names.items():
        for kind in _FOR_STORES:
            last = await session.execute(_LAST_FOR_STORE, {"store": store, "kind": kind})
            if (row := last.one_or_none()) is None:
                continue
            if kind == "adopt" and row.state != "done":
                yield _not_adopted(name, row, away.cause(store, ""))
            elif row.state == "failed":
                yield _store_run_failed(name, kind, row, away.cause(store, ""))
    uncopied: dict[str, list[Run]] = {}
    for run in await store_duties.failed_for_stores(session):
        if run.kind == "copy" and run.store_id is not None:
            uncopied.setdefault(run.store_id, []).append(run)
    for store, runs in uncopied.items():
        yield _not_copied(names[store], runs, away.cause(store, ""))


def _not_adopted(store: str, last: Row[*tuple[Any, ...]], cause: str) -> ConcernFound:
    """``last``: a row of ``_LAST_FOR_STORE``."""
    why = f": {last.reason}" if last.reason else ""
    return ConcernFound(
        "not-adopted",
        "high",
        "store",
        store,
        f"The catalogue may lack backups that are in {store}: the adoption is {last.state}{why}",
        last.remedy or f"It is tried again. Or run: fennox store adopt {store}",
        "Backups that exist only there are missing from every list.",
        cause=cause,
    )


def _store_run_failed(
    store: str, kind: str, last: Row[*tuple[Any, ...]], cause: str
) -> ConcernFound:
    return ConcernFound(
        "failed",
        "high",
        "store",
        store,
        f"The last {kind} of {store} failed: {last.reason}",
        last.remedy,
        since=last.ended,
        cause=cause,
        subject=kind,
    )


def _not_copied(store: str, runs: list[Run], cause: str) -> ConcernFound:
    some = "1 backup is" if len(runs) == 1 else f"{len(runs)} backups are"
    backup = str(runs[-1].backup_id)[:12]
    return ConcernFound(
        "not-copied",
        "high",
        "store",
        store,
        f"{some} not copied to {store}: {runs[-1].reason}",
        f"It is tried again every hour. Or: fennox backup copy {backup} --to {store}",
        cause=cause,
    )
