"""Problems of runs: hanging, failed, waiting for a person, or given up and not repeated."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import datetime, timedelta
from functools import cache
from typing import Any

from sqlalchemy import Row, Select, bindparam, cast, exists, func, select
from sqlalchemy.dialects.postgresql import JSONB, JSONPATH
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


_STANDS_STILL = ("waiting", "failed", "stopped", "not proved", "given up")
_LEAVES = cast(SheetRow.data, JSONB).path_exists(cast("$.steps[*].meanwhile.says", JSONPATH))


async def left_by_restores(session: AsyncSession) -> AsyncIterator[ConcernFound]:
    """What restores that stand still left on their targets, until a later one there is proved."""
    still = (
        select(SheetRow, System.name)
        .join(System, System.id == SheetRow.system_id)
        .where(SheetRow.state.in_(_STANDS_STILL), _LEAVES)
        .order_by(SheetRow.created)
    )
    later = aliased(SheetRow)
    address = SheetRow.data["target"]["address"].astext
    over = exists().where(
        later.created > SheetRow.created,
        later.state == "proved",
        later.data["target"]["address"].astext == address,
    )
    for row, system in await session.execute(still.where(~over)):
        sheet = row.data.model_copy(update={"state": row.state})
        for step in sheet.in_force():
            if step.meanwhile is None:
                continue
            sure = "" if step.state == "done" else f" That step is {step.state}, so it may not be."
            yield ConcernFound(
                "left-by-restore",
                "high",
                "system",
                sheet.spare or system,
                f"A restore of {system} ({sheet.state}) left this on {sheet.target.address}:"
                f" {step.meanwhile.says}{sure}",
                f"Continue it, give it up, or release it: fennox restore release {row.id[:12]}"
                f" {step.number}",
                since=step.started,
                subject=f"{row.id}|{step.number}",
            )


async def unaccepted(session: AsyncSession) -> AsyncIterator[ConcernFound]:
    """Proofs that nobody has accepted, and that no other one has overtaken since."""
    other = aliased(SheetRow)
    overtaken = exists().where(
        _PURPOSE != "seed",
        other.system_id == SheetRow.system_id,
        other.data["purpose"].astext != "seed",
        other.data["accepted"].astext > SheetRow.data["proof"]["at"].astext,
    )
    proved = (
        select(SheetRow, System)
        .join(System, System.id == SheetRow.system_id)
        .where(SheetRow.state == "proved", SheetRow.data["accepted"].astext.is_(None), ~overtaken)
        .where(
            _PURPOSE.in_(("replace", "seed"))
            | ((_PURPOSE == "repair") & (SheetRow.data["new_identity"].astext == "true"))
        )
    )
    for row, system in await session.execute(proved):
        sheet = row.data.model_copy(update={"state": row.state})
        if not sheet.awaits_acceptance():
            continue
        because = system.suspended_because if sheet.purpose != "seed" else ""
        yield ConcernFound(
            "unaccepted",
            "high",
            "system",
            system.name,
            f"The restore of {system.name} is proved, but nobody has accepted it:"
            f" {sheet.new_name or system.name} is not yet the machine at"
            f" {sheet.after.place.address}.",
            f"Accept it: fennox restore accept {row.id[:12]}. Or go back: fennox restore return"
            f" {row.id[:12]}",
            "Until then its backup and safety copy are held, and the old identity counts.",
            since=sheet.proof.at if sheet.proof is not None else None,
            cause=f"suspended|{because}" if because else "",
            subject=row.id,
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
    why = f": {last.reason.rstrip('.')}" if last.reason else ""
    return ConcernFound(
        "not-adopted",
        "high",
        "store",
        store,
        f"The catalogue may lack backups that are in {store}: the adoption is {last.state}{why}.",
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
