"""What is wrong with systems or will be: late, missed, doubtful, lacking, in one place only, needed
in a circle.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import AsyncIterator
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Row, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run, SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import Away, ConcernFound
from fennox.core.facts.return_order import in_order
from fennox.core.schedule import schedule
from fennox.core.schedule.moments import MOST_SKEW
from fennox.service.concerns.one_system import GRACE, NewestBackup, of_system, subject_of
from fennox.service.foundation.fair_share import give_way
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import ONLY_PARTIAL, among, newest_backups, unhurried
from fennox.service.retention import routines
from fennox.service.systems import relations
from fennox.service.takes import hand_ins

_TAKEN_WITHIN = timedelta(days=1)  # what differs, where a routine looks
_TURN = 50  # systems after which others get their turn of this thread
_NAMED = 500  # backups that one question names


async def of_systems(
    context: Context, session: AsyncSession, away: Away, now: datetime
) -> AsyncIterator[ConcernFound]:
    there = select(System).where(System.retired.is_(None))
    systems: list[System] = sorted(
        (row[0] for row in await unhurried(session, there)), key=lambda row: row.name
    )
    newest = await _newest(session)
    by_hand = await hand_ins.lacking(context, session, systems)
    all_routines = list((await session.execute(select(Routine).order_by(Routine.name))).scalars())
    places = await _places(session, [row.id for row in newest.values()])
    stores = {row.id: row for row in (await session.execute(select(StoreRow))).scalars()}
    doubtful = await _doubtful(session)
    lacking = await unhurried(session, newest_backups(Backup.findings, fits=ONLY_PARTIAL))
    partial = {row.system: list(row.findings) for row in lacking}
    missed = await _missed(session, all_routines, systems, now)
    busy = set((await session.execute(select(Run.system_id).where(IS_ACTIVE))).scalars())
    for number, system in enumerate(systems):
        if number % _TURN == 0:
            await give_way(session)
        mine = [routine for routine in all_routines if selectors.selects(routine.systems, system)]
        backup = newest.get(system.id)
        if context.kinds.installed(system.kind) is None:
            yield ConcernFound(
                "no-kind",
                "high",
                "system",
                system.name,
                f"{system.name} is of the kind {system.kind}, which is not installed here.",
                "Add its file: fennox kind add FILE. Its backups carry it: fennox backup export",
                "It can neither be taken nor restored.",
                cause=f"no-kind|{system.kind}",
                together=f"{{these}} are of the kind {system.kind}, which is not installed here.",
            )
        held = (
            [stores[store] for store in places.get(backup.id, []) if store in stores]
            if backup
            else []
        )
        for item in of_system(
            system, mine, backup, partial.get(system.id), held, doubtful, missed, away, now
        ):
            yield item
        if system.left_open and system.id not in busy:
            yield ConcernFound(
                "left-open",
                "high",
                "system",
                system.name,
                f"A take of {system.name} did this and could not undo it:"
                f" {', '.join(system.left_open)}.",
                f"Take it again, which undoes it first: fennox backup take {system.name}. Or undo"
                f" it on the machine, and say so: fennox system resume {system.name}",
                "Something on the machine may be stopped, locked or open.",
            )
        if system.skew is not None and abs(system.skew) > MOST_SKEW:
            ahead = "ahead" if system.skew > 0 else "behind"
            yield ConcernFound(
                "clock",
                "low",
                "system",
                system.name,
                f"The clock of {system.name} was {_span(abs(system.skew))} {ahead} when it was last"
                " taken.",
                "Have it follow a time server; the next take sees it.",
                "Its certificates, schedules and logs go by that clock.",
                cause="clocks-of-systems",
                together="The clocks of {these} were off when they were last taken.",
            )
        if system.differs and not _is_taken_soon(system, mine, now):
            yield ConcernFound(
                "differs",
                "low",
                "system",
                system.name,
                f"{system.name} is not what its last backup holds: {system.differs}.",
                f"See: fennox backup compare --system {system.name} --live. Then: "
                f"fennox backup take {system.name}",
                "A restore would bring back what was before.",
                since=system.differs_since,
                cause="differs",
                together="{these} are not what their last backups hold.",
            )
        for finding in by_hand.get(system.id, []):
            yield ConcernFound(
                "lacks",
                "low",
                "system",
                system.name,
                f"{system.name}: {finding.text}",
                finding.remedy,
                cause=f"lacks|{finding.text}",
                together=f"{{these}}: {finding.text}",
                subject=subject_of(finding),
            )
    order = in_order(
        {
            name: related.needs
            for name, related in (await relations.relations(context, session)).items()
        }
    )
    for circle in order.circles:
        names = ", ".join(circle)
        yield ConcernFound(
            "circle",
            "low",
            "system",
            circle[0],
            f"These systems need each other to come back: {names}.",
            "Say which one can come back alone: fennox system set NAME --needs …",
            "After everything was lost none of them can be the first.",
        )
    drilled = set(
        (
            await session.execute(select(SheetRow.system_id).where(SheetRow.state == "proved"))
        ).scalars()
    )
    never = [system.name for system in systems if system.id in newest and system.id not in drilled]
    never = [name for name in never if name != "fennox"]
    if never:
        some = ", ".join(never[:5]) + (f" and {len(never) - 5} more" if len(never) > 5 else "")
        yield ConcernFound(
            "never-drilled",
            "low",
            "service",
            "drills",
            f"Never restored, not even for practice: {some}.",
            "Draft a restore onto a spare machine: fennox restore draft BACKUP --at ADDRESS",
            "Nobody knows how long it takes, and whether it works.",
        )


def _span(seconds: float) -> str:
    for unit, length in (("days", 86400), ("hours", 3600), ("minutes", 60)):
        if seconds >= 2 * length:
            return f"{seconds / length:.0f} {unit}"
    return f"{seconds:.0f} seconds"


def _is_taken_soon(system: System, mine: list[Routine], now: datetime) -> bool:
    """A routine that looks takes it by itself, unless it has been at it for long."""
    by_itself = any(routine.mode == "on" and routine.look_every for routine in mine)
    return (
        by_itself
        and system.differs_since is not None
        and now - system.differs_since < _TAKEN_WITHIN
    )


async def _newest(session: AsyncSession) -> dict[str, NewestBackup]:
    """Of each system the newest good backup, without its census, which may be long."""
    wanted = (Backup.id, Backup.time, Backup.findings, Backup.certificates)
    rows = await unhurried(session, newest_backups(*wanted))
    return {
        row.system: NewestBackup(row.id, row.time, row.findings, row.certificates) for row in rows
    }


async def _places(session: AsyncSession, backups: list[str]) -> dict[str, list[str]]:
    """Ids of the stores that hold them, sound."""
    found: dict[str, list[str]] = defaultdict(list)
    for first in range(0, len(backups), _NAMED):
        await give_way(session)
        some = among(Copy.backup_id, backups[first : first + _NAMED])
        sound = select(Copy.backup_id, Copy.store_id).where(some, Copy.damaged == "")
        for backup, store in await session.execute(sound):
            found[backup].append(store)
    return found


async def _doubtful(session: AsyncSession) -> dict[str, Row[*tuple[Any, ...]]]:
    """The newest doubtful backup of each system that nobody has looked at."""
    wanted = (Backup.system_id, Backup.id, Backup.time, Backup.doubtful_because)
    query = select(*wanted).where(Backup.doubtful, Backup.expired.is_(False)).order_by(Backup.time)
    found: dict[str, Row[*tuple[Any, ...]]] = {}
    for row in await session.execute(query):
        found[row.system_id] = row
    return found


async def _missed(
    session: AsyncSession, all_routines: list[Routine], systems: list[System], now: datetime
) -> dict[str, list[tuple[Routine, datetime]]]:
    """Due times for which no run was queued, by system; what the scheduler decided is compared with
    the rule itself.
    """
    on = [routine for routine in all_routines if routine.mode == "on"]
    found: dict[str, list[tuple[Routine, datetime]]] = defaultdict(list)
    for routine in on:
        plan = schedule.parse(routine.when, routine.zone)
        decided = await routines.decided_last(session, routine)
        for number, system in enumerate(systems):
            if number % _TURN == 0:
                await give_way(session)
            if system.suspended_because or not selectors.selects(routine.systems, system):
                continue
            since = routines.decided_up_to(now, routine, system, decided.get(system.id))
            place = schedule.place_in(routine.spread, system.id)
            due = plan.newest_due(since, now - place - GRACE)
            if due is not None and routines.begins(routine, due + place) <= now - GRACE:
                found[system.id].append((routine, due))
    return found
