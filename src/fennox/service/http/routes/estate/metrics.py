"""``/metrics`` in Prometheus' text form: what a monitoring server should ask about."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from typing import Any

from fastapi import APIRouter, Response
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, generate_latest
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.registry import Collector
from sqlalchemy import Select, func, select, true
from sqlalchemy.dialects.postgresql import array, distinct_on

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.runs import Run, Worker
from fennox.catalogue.models.stores import StoreRow, StoreSpace
from fennox.catalogue.models.systems import System
from fennox.service.concerns import estate_watch
from fennox.service.http.routes.people.session import Here
from fennox.service.queries.newest_good import newest_backups, unhurried

router = APIRouter(tags=["health"])

_KINDS = ("take", "look", "draft", "restore")  # of runs of a system


class _Found(Collector):
    """What was found, handed over as it is: an object for each series would take twice as long."""

    def __init__(self) -> None:
        self.families: list[GaugeMetricFamily] = []

    def collect(self) -> Iterable[Metric]:
        return self.families


@router.get("/metrics", response_class=Response)
async def metrics(context: Here) -> Response:
    """Ages, outcomes, durations, sizes, the queue and what is wrong. A scraper signs in with a
    reader's token.
    """
    found = _Found()

    def gauge(name: str, text: str, *labels: str) -> GaugeMetricFamily:
        found.families.append(GaugeMetricFamily(f"fennox_{name}", text, labels=labels))
        return found.families[-1]

    age = gauge(
        "newest_good_backup_age_seconds", "Age of the newest good backup.", "system", "kind", "site"
    )
    size = gauge(
        "newest_good_backup_bytes", "Size of the newest good backup.", "system", "kind", "site"
    )
    unprotected = gauge("systems_without_good_backup", "Enrolled systems that have none.")
    runs = gauge("runs", "Runs that are known, by kind and state.", "kind", "state")
    seconds = gauge(
        "last_run_duration_seconds", "Duration of the last run that was done.", "kind", "system"
    )
    used = gauge("store_used_bytes", "Bytes in a store at the last look.", "store")
    free = gauge("store_free_bytes", "Bytes left in a store, where its protocol tells.", "store")
    queue = gauge("queue_length", "Runs that wait for a worker.")
    workers = gauge("workers_alive", "Workers that were heard of within the last minute.")
    concerns = gauge("concerns", "What is wrong, by severity.", "severity")
    async with context.session() as session:
        now = await estate_watch.database_now(context, session)
        there = select(System.id, System.name, System.kind, System.site).where(
            System.retired.is_(None)
        )
        systems = {row.id: row for row in await unhurried(session, there)}
        held = {
            row.system: row
            for row in await unhurried(session, newest_backups(Backup.time, Backup.size))
        }
        took = await unhurried(session, _last_runs())
        for kind, state, count in await session.execute(
            select(Run.kind, Run.state, func.count()).group_by(Run.kind, Run.state)
        ):
            runs.add_metric([kind, state], count)
        looked = (
            select(StoreRow.name, StoreSpace.used, StoreSpace.free)
            .join(StoreSpace, StoreSpace.store_id == StoreRow.id)
            .ext(distinct_on(StoreRow.id))
            .order_by(StoreRow.id, StoreSpace.at.desc())
        )
        for name, bytes_used, bytes_free in await session.execute(looked):
            used.add_metric([name], bytes_used)
            if bytes_free is not None:
                free.add_metric([name], bytes_free)
        waiting = select(func.count()).select_from(Run).where(Run.state == constant("queued"))
        queue.add_metric([], (await session.execute(waiting)).scalar_one())
        alive = (
            select(func.count())
            .select_from(Worker)
            .where(
                Worker.seen.between(
                    func.now() - estate_watch.WORKER_ALIVE, func.now() + estate_watch.WORKER_ALIVE
                )
            )
        )
        workers.add_metric([], (await session.execute(alive)).scalar_one())
        standing = select(ConcernRow.severity, func.count()).where(ConcernRow.ended.is_(None))
        for severity, count in await session.execute(standing.group_by(ConcernRow.severity)):
            concerns.add_metric([severity], count)

    def written() -> bytes:
        for system in systems.values():
            if (backup := held.get(system.id)) is not None:
                age.add_metric(
                    [system.name, system.kind, system.site], (now - backup.time).total_seconds()
                )
                size.add_metric([system.name, system.kind, system.site], backup.size)
        unprotected.add_metric([], len(systems.keys() - held.keys()))
        for row in took:
            if row.system in systems:
                for kind, length in row.took.items():
                    seconds.add_metric([kind, systems[row.system].name], length)
        registry = CollectorRegistry()
        registry.register(found)
        return generate_latest(registry)

    # of ten thousand systems it takes a second, in which others are answered
    return Response(await asyncio.to_thread(written), media_type=CONTENT_TYPE_LATEST)


def _last_runs() -> Select[Any]:
    """Of each system, by kind, how long the last run that was done took."""
    kinds = func.unnest(array(_KINDS)).table_valued("kind").render_derived("kinds")
    took = func.extract("epoch", Run.ended - Run.started).label("took")
    mine = (
        Run.system_id == System.id,
        Run.kind == kinds.c.kind,
        Run.state == constant("done"),
        Run.started.is_not(None),
    )
    last = select(took).where(*mine).order_by(Run.created.desc()).limit(1).lateral("last")
    by_kind = func.jsonb_object_agg(kinds.c.kind, last.c.took)
    found = (
        select(System.id.label("system"), by_kind.label("took"))
        .join(kinds, true())
        .join(last, true())
    )
    return found.group_by(System.id)
