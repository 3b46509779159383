"""The estate in Prometheus' text exposition format."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from prometheus_client import CollectorRegistry, generate_latest
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.registry import Collector
from sqlalchemy import Row, Select, func, select, true
from sqlalchemy.dialects.postgresql import array, distinct_on
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.runs import Run, Worker
from fennox.catalogue.models.stores import StoreRow, StoreSpace
from fennox.catalogue.models.systems import System
from fennox.service.concerns import estate_watch
from fennox.service.machines.context import Context
from fennox.service.queries.newest_good import newest_backups, unhurried
from fennox.service.queries.selectors import PROTECTED

_KINDS = ("take", "look", "draft", "restore")  # of runs of a system
_OF_A_SYSTEM = ("system", "kind", "site")


class _Gauges(Collector):
    """Precomputed series, because an object per series would take twice as long."""

    def __init__(self) -> None:
        self._families: list[GaugeMetricFamily] = []

    def collect(self) -> Iterable[Metric]:
        return self._families

    def gauge(self, name: str, text: str, *labels: str) -> GaugeMetricFamily:
        family = GaugeMetricFamily(f"fennox_{name}", text, labels=labels)
        self._families.append(family)
        return family

    def single(self, name: str, text: str, value: float) -> None:
        self.gauge(name, text).add_metric([], value)

    def text(self) -> bytes:
        registry = CollectorRegistry()
        registry.register(self)
        return generate_latest(registry)


async def metrics_text(context: Context) -> bytes:
    """Ages, outcomes, durations, sizes, the queue and concerns."""
    gauges = _Gauges()
    async with context.session() as session:
        systems = await _systems(context, session)
        await _runs(session, gauges)
        await _stores(session, gauges)
        await _concerns(session, gauges)

    def rendered() -> bytes:
        systems.add_to(gauges)
        return gauges.text()

    # takes a second for ten thousand systems; other requests are answered meanwhile
    return await asyncio.to_thread(rendered)


@dataclass(frozen=True)
class _Systems:
    """Rows by system id; ``took``: seconds of the last run, by system and kind."""

    systems: dict[str, Row[Any]]
    newest: dict[str, Row[Any]]
    took: list[Row[Any]]
    now: datetime

    def add_to(self, gauges: _Gauges) -> None:
        age = gauges.gauge(
            "newest_good_backup_age_seconds", "Age of the newest good backup.", *_OF_A_SYSTEM
        )
        size = gauges.gauge(
            "newest_good_backup_bytes", "Size of the newest good backup.", *_OF_A_SYSTEM
        )
        for system in self.systems.values():
            if (backup := self.newest.get(system.id)) is not None:
                labels = [system.name, system.kind, system.site]
                age.add_metric(labels, (self.now - backup.time).total_seconds())
                size.add_metric(labels, backup.size)
        without = len(self.systems.keys() - self.newest.keys())
        gauges.single(
            "systems_without_good_backup", "Enrolled systems without a good backup.", without
        )
        seconds = gauges.gauge(
            "last_run_duration_seconds", "Duration of the last completed run.", "kind", "system"
        )
        for row in self.took:
            if row.system in self.systems:
                for kind, length in row.took.items():
                    seconds.add_metric([kind, self.systems[row.system].name], length)


async def _systems(context: Context, session: AsyncSession) -> _Systems:
    now = await estate_watch.database_now(context, session)
    active = select(System.id, System.name, System.kind, System.site)
    newest = newest_backups(Backup.time, Backup.size)
    return _Systems(
        systems={row.id: row for row in await unhurried(session, active.where(PROTECTED))},
        newest={row.system: row for row in await unhurried(session, newest)},
        took=list(await unhurried(session, _last_runs())),
        now=now,
    )


async def _runs(session: AsyncSession, gauges: _Gauges) -> None:
    runs = gauges.gauge("runs", "Known runs, by kind and state.", "kind", "state")
    by_state = select(Run.kind, Run.state, func.count()).group_by(Run.kind, Run.state)
    for kind, state, count in await session.execute(by_state):
        runs.add_metric([kind, state], count)
    waiting = select(func.count()).select_from(Run).where(Run.state == constant("queued"))
    length = (await session.execute(waiting)).scalar_one()
    gauges.single("queue_length", "Runs that wait for a worker.", length)
    within = estate_watch.WORKER_ALIVE
    heard = Worker.seen.between(func.now() - within, func.now() + within)
    alive = select(func.count()).select_from(Worker).where(heard)
    workers = (await session.execute(alive)).scalar_one()
    gauges.single("workers_alive", "Workers heard from within the last minute.", workers)


async def _stores(session: AsyncSession, gauges: _Gauges) -> None:
    used = gauges.gauge("store_used_bytes", "Bytes used in a store, as last measured.", "store")
    free = gauges.gauge(
        "store_free_bytes", "Bytes free in a store, where its protocol reports them.", "store"
    )
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


async def _concerns(session: AsyncSession, gauges: _Gauges) -> None:
    concerns = gauges.gauge("concerns", "Standing concerns, by severity.", "severity")
    standing = select(ConcernRow.severity, func.count()).where(ConcernRow.ended.is_(None))
    for severity, count in await session.execute(standing.group_by(ConcernRow.severity)):
        concerns.add_metric([severity], count)


def _last_runs() -> Select[Any]:
    """Duration of the last successful run, by system and kind."""
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
