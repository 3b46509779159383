"""Routines: their systems, due times, and what their ladders keep."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from typing import NamedTuple

from sqlalchemy import case, func, null, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.systems import System
from fennox.core.format.manifest import PartHeld
from fennox.core.retention import ladder
from fennox.core.retention.ladder import NoLadder, OfRetired, Reason
from fennox.core.schedule import moments, schedule
from fennox.service.queries.newest_good import among
from fennox.service.queries.selectors import taken

_DAY = timedelta(days=1)
FIRST = 50  # systems of a routine shown at a time
_HELD = "held"  # for no reason that was said


def next_run(routine: Routine, now: datetime, system: str = "") -> datetime | None:
    """The next run; for one system including its offset in the spread and quiet hours."""
    if routine.mode != "on":
        return None
    place = schedule.place_in(routine.spread, system) if system else timedelta()
    due = schedule.parse(routine.when, routine.zone).after(now - place)
    return begins(routine, due + place) if due is not None else None


def begins(routine: Routine, moment: datetime) -> datetime:
    return schedule.after_quiet(
        schedule.quiet_hours(routine.quiet), schedule.zone_named(routine.zone), moment
    )


async def members(session: AsyncSession, routine: Routine) -> list[System]:
    rows = select(System).where(*taken(routine.systems)).order_by(System.name)
    return list((await session.execute(rows)).scalars())


async def first_members(session: AsyncSession, routine: Routine) -> tuple[list[str], int]:
    """Names of the first :data:`FIRST` systems it takes, and their total number."""
    chosen = select(System.name, func.count().over()).where(*taken(routine.systems))
    rows = (await session.execute(chosen.order_by(System.name).limit(FIRST))).all()
    return [name for name, _ in rows], rows[0][1] if rows else 0


async def decided_last(session: AsyncSession, routine: Routine) -> dict[str, datetime]:
    """Each system's last handled due time, in order of handling, whatever the clocks showed."""
    last = (
        select(Run.system_id, Run.due)
        .ext(distinct_on(Run.system_id))
        .where(Run.routine_id == routine.id, Run.due.is_not(None))
        .order_by(Run.system_id, Run.number.desc())
    )
    return {str(system): due for system, due in await session.execute(last) if due is not None}


def decided_up_to(
    now: datetime, routine: Routine, system: System, last: datetime | None
) -> datetime:
    """Due times up to here were handled; ``last``: the last handled one. A future moment was
    written by a wrong clock and is ignored. If the clock was ahead at that time, a whole day is
    handled again: an extra take is harmless, a missing one is not.
    """
    if last is not None and moments.is_future(last, now):
        return now - _DAY
    known = (moments.past(moment, now) for moment in (routine.decided_until, system.created, last))
    return max((moment for moment in known if moment is not None), default=now - _DAY)


class StandingBackup(NamedTuple):
    """A backup's facts for ladders and sweeps. ``parts``: only if it is partial."""

    id: str
    time: datetime
    doubtful: bool
    safety: bool
    held: str | None
    system_id: str
    partial: bool
    parts: Sequence[PartHeld] | None
    new_bytes: int
    sequence: int
    misdated: bool


_STANDING = (
    Backup.id,
    Backup.time,
    Backup.doubtful,
    Backup.purpose == constant("safety"),
    case((Backup.held, constant(_HELD))),
    Backup.system_id,
    Backup.partial,
    null(),
    Backup.new_bytes,
    Backup.sequence,
    Backup.misdated,
)  # as the fields of a Standing, in their order; of what the index ``standing`` holds alone


async def backups_of(
    session: AsyncSession,
    systems: Sequence[str],
    *,
    expired: bool = True,
    since: datetime | None = None,
) -> dict[str, list[StandingBackup]]:
    """These systems' backups, newest first; optionally without expired ones. ``since``: only newer
    ones, which suffice to find their keepers, because older ones do not affect them.
    """
    rows = select(*_STANDING).where(among(Backup.system_id, systems))
    rows = rows.order_by(Backup.system_id, Backup.time.desc(), Backup.sequence.desc())
    if not expired:
        rows = rows.where(Backup.expired.is_(False))
    if since is not None:
        rows = rows.where(Backup.time >= since)
    # a hundred backups per system: too many for session objects
    connection = await session.connection()
    every = [*map(StandingBackup._make, (await connection.execute(rows)).all())]
    closer = [backup.id for backup in every if backup.held is not None or backup.partial]
    details = select(Backup.id, Backup.held_because, Backup.parts).where(among(Backup.id, closer))
    known = {row.id: row for row in await connection.execute(details)} if closer else {}
    found: dict[str, list[StandingBackup]] = {system: [] for system in systems}
    for backup in every:
        if (row := known.get(backup.id)) is not None:
            held = row.held_because or _HELD if backup.held is not None else None
            backup = backup._replace(held=held, parts=row.parts if backup.partial else None)
        found[backup.system_id].append(backup)
    return found


def reasons(
    backups: Sequence[StandingBackup], mine: list[Routine], now: datetime
) -> dict[str, list[Reason]]:
    """What keeps each backup of a system, by every routine that selects it. Without a routine all
    are kept. Complete backups form one group, and backups of the same parts another, so that a
    partial backup never displaces a complete one. A routine for certain parts decides about backups
    of exactly these parts.
    """
    if not mine:
        return {backup.id: [NoLadder()] for backup in backups}
    undated = dates_in_doubt(backups, now)
    groups: dict[frozenset[str] | None, list[StandingBackup]] = defaultdict(list)
    for backup in backups:
        groups[_parts(backup) if backup.partial else None].append(backup)
    found: dict[str, list[Reason]] = {}
    for group, together in groups.items():
        own = [
            routine for routine in mine if group is not None and set(routine.parts or []) == group
        ]
        chosen = own or [routine for routine in mine if not routine.parts] or mine
        for routine in chosen:
            zone = schedule.zone_named(routine.zone)
            kept = ladder.kept(together, ladder.parse(routine.ladder), now, zone, undated=undated)
            if len(chosen) == 1:
                found |= kept
                continue
            for backup_id, why in kept.items():
                known = found.setdefault(backup_id, [])
                known += [reason for reason in why if reason not in known]
    return found


def dates_in_doubt(backups: Sequence[StandingBackup], now: datetime) -> frozenset[str]:
    """A system's backups (given newest first) whose dates are or may be wrong."""
    known = _dated(backups)
    doubted: frozenset[int] = frozenset()
    if known and (not _in_order(known) or moments.is_future(known[0].time, now)):
        doubted = moments.dates_in_doubt({backup.sequence: backup.time for backup in known}, now)
    return frozenset(
        backup.id for backup in backups if backup.misdated or backup.sequence in doubted
    )


def disordered(backups: Sequence[StandingBackup], now: datetime) -> bool:
    """Whether the past dates of a system's backups (given newest first) contradict their order."""
    known = [backup for backup in _dated(backups) if not moments.is_future(backup.time, now)]
    if _in_order(known):
        return False
    return bool(moments.dates_in_doubt({backup.sequence: backup.time for backup in known}, now))


def _dated(backups: Sequence[StandingBackup]) -> list[StandingBackup]:
    """Omits backups without evidence about order: misdated, or from another history."""
    return [backup for backup in backups if not backup.misdated and backup.sequence > 0]


def _in_order(newest_first: Sequence[StandingBackup]) -> bool:
    return all(later.sequence > earlier.sequence for later, earlier in pairwise(newest_first))


def what_keeps(
    system: System, backups: Sequence[StandingBackup], mine: list[Routine], now: datetime
) -> dict[str, list[Reason]]:
    """As :func:`reasons`; a retired system's backups stay until a person releases them."""
    found = reasons(backups, mine, now)
    if system.retired is not None and not system.let_go:
        for why in found.values():
            why.append(OfRetired())
    return found


def _parts(backup: StandingBackup) -> frozenset[str]:
    return frozenset(part.name for part in backup.parts or ())
