"""``/metrics`` in Prometheus' text form: what a monitoring server should ask about."""

from __future__ import annotations

from fastapi import APIRouter, Response
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, Gauge, generate_latest
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import distinct_on

from fennox.catalogue.models import Backup, ConcernRow, Run, StoreRow, StoreSpace, System, Worker
from fennox.service import watching
from fennox.service.newest import newest_backups
from fennox.service.routes.session import Here

router = APIRouter(tags=["health"])


@router.get("/metrics", response_class=Response)
async def metrics(context: Here) -> Response:
    """Ages, outcomes, durations, sizes, the queue and what is wrong. A scraper signs in with a reader's token."""
    registry = CollectorRegistry()

    def gauge(name: str, text: str, *labels: str) -> Gauge:
        return Gauge(f"fennox_{name}", text, labels, registry=registry)

    age = gauge("newest_good_backup_age_seconds", "Age of the newest good backup.", "system", "kind", "site")
    size = gauge("newest_good_backup_bytes", "Size of the newest good backup.", "system", "kind", "site")
    unprotected = gauge("systems_without_good_backup", "Enrolled systems that have none.")
    runs = gauge("runs", "Runs that are known, by kind and state.", "kind", "state")
    seconds = gauge("last_run_duration_seconds", "Duration of the last run that was done.", "kind", "system")
    used = gauge("store_used_bytes", "Bytes in a store at the last look.", "store")
    free = gauge("store_free_bytes", "Bytes left in a store, where its protocol tells.", "store")
    queue = gauge("queue_length", "Runs that wait for a worker.")
    workers = gauge("workers_alive", "Workers that were heard of within the last minute.")
    concerns = gauge("concerns", "What is wrong, by severity.", "severity")
    async with context.session() as session:
        now = await watching.database_now(context, session)
        systems = {row.id: row for row in (await session.execute(select(System))).scalars() if row.retired is None}
        held = {row.system: row for row in await session.execute(newest_backups(Backup.time, Backup.size))}
        for system in systems.values():
            if (backup := held.get(system.id)) is not None:
                age.labels(system.name, system.kind, system.site).set((now - backup.time).total_seconds())
                size.labels(system.name, system.kind, system.site).set(backup.size)
        unprotected.set(len(systems.keys() - held.keys()))
        for kind, state, count in await session.execute(
            select(Run.kind, Run.state, func.count()).group_by(Run.kind, Run.state)
        ):
            runs.labels(kind, state).set(count)
        last = (
            select(Run.kind, Run.system_id, func.extract("epoch", Run.ended - Run.started).label("took"))
            .where(Run.state == "done", Run.system_id.is_not(None), Run.started.is_not(None))
            .ext(distinct_on(Run.kind, Run.system_id))
            .order_by(Run.kind, Run.system_id, Run.ended.desc())
        )
        for row in await session.execute(last):
            if row.system_id in systems:
                seconds.labels(row.kind, systems[row.system_id].name).set(float(row.took))
        looked = (
            select(StoreRow.name, StoreSpace.used, StoreSpace.free)
            .join(StoreSpace, StoreSpace.store_id == StoreRow.id)
            .ext(distinct_on(StoreRow.id))
            .order_by(StoreRow.id, StoreSpace.at.desc())
        )
        for name, bytes_used, bytes_free in await session.execute(looked):
            used.labels(name).set(bytes_used)
            if bytes_free is not None:
                free.labels(name).set(bytes_free)
        waiting = select(func.count()).select_from(Run).where(Run.state == "queued")
        queue.set((await session.execute(waiting)).scalar_one())
        alive = select(func.count()).select_from(Worker).where(Worker.seen > func.now() - watching.WORKER_ALIVE)
        workers.set((await session.execute(alive)).scalar_one())
        standing = select(ConcernRow.severity, func.count()).where(ConcernRow.ended.is_(None))
        for severity, count in await session.execute(standing.group_by(ConcernRow.severity)):
            concerns.labels(severity).set(count)
    return Response(generate_latest(registry), media_type=CONTENT_TYPE_LATEST)
