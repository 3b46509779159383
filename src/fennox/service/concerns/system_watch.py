"""Present and coming problems of systems: late, missed, doubtful, incomplete, in one place only, in
a dependency circle.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import AsyncIterator
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run, SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import Away, ConcernFound
from fennox.core.facts.return_order import in_order
from fennox.core.format.manifest import Finding
from fennox.core.schedule import schedule
from fennox.core.words import first_few
from fennox.service.concerns.one_system import (
    GRACE,
    DoubtfulBackup,
    NewestBackup,
    SystemFacts,
    of_system,
)
from fennox.service.foundation.fair_share import give_way
from fennox.service.machines.context import Context
from fennox.service.own_state import own_routine
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import ONLY_PARTIAL, among, newest_backups, unhurried
from fennox.service.queries.selectors import PROTECTED
from fennox.service.retention import routines
from fennox.service.systems import relations
from fennox.service.takes import awaited

_TURN = 50  # systems processed before yielding this thread
_NAMED = 500  # backups per query


async def of_systems(
    context: Context, session: AsyncSession, away: Away, now: datetime
) -> AsyncIterator[ConcernFound]:
    systems = await _active_systems(session)
    facts = await _facts(context, session, systems, now)
    for number, system in enumerate(systems):
        if number % _TURN == 0:
            await give_way(session)
        for item in of_system(facts.of(system), away, now):
            yield item
    related = await relations.relations(context, session)
    for circle in in_order({name: row.needs for name, row in related.items()}).circles:
        yield _circle(circle)
    drilled = await _drilled(session)
    to_drill = [row for row in systems if row.id in facts.newest and row.kind != own_routine.KIND]
    if never := [row.name for row in to_drill if row.id not in drilled]:
        yield _never_drilled(never)


@dataclass(frozen=True)
class _Facts:
    """Data for ``SystemFacts``; everything but the routines is keyed by system id."""

    routines: list[Routine]
    newest: dict[str, NewestBackup]
    partial: dict[str, list[Finding]]
    held: dict[str, list[StoreRow]]
    doubtful: dict[str, DoubtfulBackup]
    missed: dict[str, list[tuple[Routine, datetime]]]
    to_come: dict[str, list[Finding]]
    busy: set[str]
    kinds: set[str]  # that are installed

    def of(self, system: System) -> SystemFacts:
        return SystemFacts(
            system=system,
            routines=[row for row in self.routines if selectors.takes(row.systems, system)],
            kind_installed=system.kind in self.kinds,
            backup=self.newest.get(system.id),
            partial=self.partial.get(system.id),
            held=self.held.get(system.id, []),
            doubtful=self.doubtful.get(system.id),
            missed=self.missed.get(system.id, []),
            has_active_run=system.id in self.busy,
            lacking_to_come=self.to_come.get(system.id, []),
        )


async def _facts(
    context: Context, session: AsyncSession, systems: list[System], now: datetime
) -> _Facts:
    newest = await _newest(session)
    to_come = await awaited.lacking(context, session, systems)
    all_routines = list((await session.execute(select(Routine).order_by(Routine.name))).scalars())
    held = await _held(session, {backup.id: system for system, backup in newest.items()})
    partial = await unhurried(session, newest_backups(Backup.findings, fits=ONLY_PARTIAL))
    busy = await session.execute(select(Run.system_id).where(IS_ACTIVE))
    return _Facts(
        routines=all_routines,
        newest=newest,
        partial={row.system: list(row.findings) for row in partial},
        held=held,
        doubtful=await _doubtful(session),
        missed=await _missed(session, all_routines, systems, now),
        to_come=to_come,
        busy={system for system in busy.scalars() if system is not None},
        kinds={row.kind for row in systems if context.kinds.installed(row.kind) is not None},
    )


def _circle(names: list[str]) -> ConcernFound:
    return ConcernFound(
        "circle",
        "low",
        "system",
        names[0],
        f"These systems need each other to come back: {', '.join(names)}.",
        "Say which one can come back alone: fennox system set NAME --needs …",
        "After a total loss none of them can come back first.",
    )


def _never_drilled(names: list[str]) -> ConcernFound:
    return ConcernFound(
        "never-drilled",
        "low",
        "service",
        "drills",
        f"Never restored, not even for practice: {first_few(names)}.",
        "Practise on a spare machine: fennox restore draft BACKUP --practise --onto SPARE",
        "Nobody knows whether it works, or how long it takes.",
    )


async def _active_systems(session: AsyncSession) -> list[System]:
    rows = await unhurried(session, select(System).where(PROTECTED))
    systems: list[System] = [row[0] for row in rows]
    return sorted(systems, key=lambda row: row.name)


async def _drilled(session: AsyncSession) -> set[str]:
    """One sheet of each system is enough: to look into all of 1,500 took a second."""
    one = (
        select(SheetRow.id)
        .where(SheetRow.system_id == System.id, SheetRow.was_proved())
        .limit(1)
        .scalar_subquery()
    )
    rows = await session.execute(select(System.id, one).where(PROTECTED))
    return {system for system, sheet in rows if sheet is not None}


async def _newest(session: AsyncSession) -> dict[str, NewestBackup]:
    """Each system's newest good backup, without its census, which may be long."""
    wanted = (Backup.id, Backup.time, Backup.findings, Backup.certificates)
    rows = await unhurried(session, newest_backups(*wanted))
    return {
        row.system: NewestBackup(row.id, row.time, row.findings, row.certificates) for row in rows
    }


async def _held(session: AsyncSession, systems: dict[str, str]) -> dict[str, list[StoreRow]]:
    """Stores with a sound copy, by system; ``systems``: backup id → system id."""
    stores = {row.id: row for row in (await session.execute(select(StoreRow))).scalars()}
    held: dict[str, list[StoreRow]] = defaultdict(list)
    backups = list(systems)
    for first in range(0, len(backups), _NAMED):
        await give_way(session)
        some = among(Copy.backup_id, backups[first : first + _NAMED])
        sound = select(Copy.backup_id, Copy.store_id).where(some, Copy.damaged == "")
        for backup, store in await session.execute(sound):
            if store in stores:
                held[systems[backup]].append(stores[store])
    return held


async def _doubtful(session: AsyncSession) -> dict[str, DoubtfulBackup]:
    """Each system's newest doubtful backup that nobody has cleared."""
    wanted = (Backup.system_id, Backup.id, Backup.time, Backup.doubtful_because)
    query = select(*wanted).where(Backup.doubtful, Backup.expired.is_(False)).order_by(Backup.time)
    return {
        row.system_id: DoubtfulBackup(row.id, row.time, row.doubtful_because)
        for row in await session.execute(query)
    }


async def _missed(
    session: AsyncSession, all_routines: list[Routine], systems: list[System], now: datetime
) -> dict[str, list[tuple[Routine, datetime]]]:
    """Due times without a queued run, by system; compares the scheduler's decisions with the rule
    itself.
    """
    on = [routine for routine in all_routines if routine.mode == "on"]
    found: dict[str, list[tuple[Routine, datetime]]] = defaultdict(list)
    for routine in on:
        plan = schedule.parse(routine.when, routine.zone)
        decided = await routines.decided_last(session, routine)
        for number, system in enumerate(systems):
            if number % _TURN == 0:
                await give_way(session)
            if system.suspended_because or not selectors.takes(routine.systems, system):
                continue
            since = routines.decided_up_to(now, routine, system, decided.get(system.id))
            place = schedule.place_in(routine.spread, system.id)
            due = plan.newest_due(since, now - place - GRACE)
            if due is not None and routines.begins(routine, due + place) <= now - GRACE:
                found[system.id].append((routine, due))
    return found
