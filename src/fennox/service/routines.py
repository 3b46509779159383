"""Routines: which systems, when, and what their ladders keep."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any, Protocol, cast

from sqlalchemy import ColumnElement, case, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Backup, Routine, System
from fennox.core import ladder, schedule
from fennox.core.errors import BadInput
from fennox.core.ladder import Ranked
from fennox.service.newest import among

FIRST = 50  # systems of a routine that are named, or whose ladders are shown, at one time
_TERM = re.compile(r"(kind|site|label|name)=([A-Za-z0-9._ -]+)\Z")


def check_selector(text: str) -> None:
    """``all``, or terms that must all fit. Empty never means everything."""
    for term in _terms(text):
        if term != "all" and not _TERM.match(term):
            raise BadInput(
                f"{term!r} does not say which systems.",
                "Write `all`, or terms like `kind=linux-server site=holm label=web`.",
                field="systems",
            )


def _terms(text: str) -> list[str]:
    terms = text.split()
    if not terms:
        raise BadInput("It is not said which systems.", "Write `all` if you mean all of them.", field="systems")
    return terms


def selects(text: str, system: System) -> bool:
    for term in _terms(text):
        match = _TERM.match(term)
        if match is None:
            continue  # `all`; anything else was refused when the routine was made
        field, value = match.groups()
        fits = value in system.labels if field == "label" else getattr(system, field) == value
        if not fits:
            return False
    return True


def next_run(routine: Routine, now: datetime, system: str = "") -> datetime | None:
    """When it comes next; for one system with its own place in the spread, and after quiet hours."""
    if routine.mode != "on":
        return None
    place = schedule.place_in(routine.spread, system) if system else timedelta()
    due = schedule.parse(routine.when, routine.zone).after(now - place)
    return begins(routine, due + place) if due is not None else None


def begins(routine: Routine, moment: datetime) -> datetime:
    return schedule.after_quiet(schedule.quiet_hours(routine.quiet), schedule.zone_named(routine.zone), moment)


def selected(text: str) -> list[ColumnElement[bool]]:
    """As :func:`selects`, for the database."""
    matches = [match.groups() for term in _terms(text) if (match := _TERM.match(term)) is not None]
    return [
        System.labels.contains([value]) if field == "label" else getattr(System, field) == value
        for field, value in matches
    ]


async def members(session: AsyncSession, routine: Routine) -> list[System]:
    rows = select(System).where(*selected(routine.systems)).order_by(System.name)
    return list((await session.execute(rows)).scalars())


async def first_members(session: AsyncSession, routine: Routine) -> tuple[list[str], int]:
    """The names of the first :data:`FIRST` systems that it takes, and how many it takes in all."""
    chosen = select(System.name, func.count().over()).where(*selected(routine.systems))
    rows = (await session.execute(chosen.order_by(System.name).limit(FIRST))).all()
    return [name for name, _ in rows], rows[0][1] if rows else 0


class Standing(Ranked, Protocol):
    """What a ladder, and whoever acts on it, must know of a backup. ``parts``: only of one that lacks some."""

    @property
    def system_id(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def partial(self) -> bool: ...
    @property
    def parts(self) -> Sequence[Mapping[str, Any]] | None: ...
    @property
    def new_bytes(self) -> int: ...
    @property
    def expired(self) -> bool: ...


_STANDING = (
    Backup.id, Backup.time, Backup.doubtful, (Backup.purpose == "safety").label("safety"),
    case((Backup.held, func.coalesce(func.nullif(Backup.held_because, ""), "held"))).label("held"),
    Backup.system_id, Backup.name, Backup.partial, case((Backup.partial, Backup.parts)).label("parts"),
    Backup.new_bytes, Backup.expired,
)  # fmt: skip


async def backups_of(
    session: AsyncSession, systems: Sequence[str], *, expired: bool = True
) -> dict[str, list[Standing]]:
    """Of each of these systems its backups, the newest first; without those that nothing keeps if so wanted."""
    rows = (
        select(*_STANDING).where(among(Backup.system_id, systems)).order_by(Backup.time.desc(), Backup.sequence.desc())
    )
    if not expired:
        rows = rows.where(Backup.expired.is_(False))
    found: dict[str, list[Standing]] = {system: [] for system in systems}
    for row in await session.execute(rows):
        found[row.system_id].append(cast("Standing", row))
    return found


def reasons(backups: Sequence[Standing], mine: list[Routine], now: datetime) -> dict[str, list[str]]:
    """What keeps each backup of a system, by every routine that selects it. Without a routine all are kept.

    Whole backups are counted together, and those of the same few parts together, so that a backup of one part never
    takes the place of a whole one. A routine of its own for some parts has the say over backups of just these.
    """
    if not mine:
        return {backup.id: ["no routine's ladder applies"] for backup in backups}
    groups: dict[frozenset[str] | None, list[Standing]] = defaultdict(list)
    groups[None] = [backup for backup in backups if not backup.partial]
    for backup in backups:
        if backup.partial:
            groups[_parts(backup)].append(backup)
    found: dict[str, list[str]] = {backup.id: [] for backup in backups}
    for group, together in groups.items():
        own = [routine for routine in mine if group is not None and set(routine.parts or []) == group]
        chosen = own or [routine for routine in mine if not routine.parts] or mine
        for routine in chosen:
            kept = ladder.kept(together, ladder.parse(routine.ladder), now, schedule.zone_named(routine.zone))
            if len(chosen) == 1:
                found |= kept
                continue
            for backup_id, why in kept.items():
                found[backup_id] += [reason for reason in why if reason not in found[backup_id]]
    return found


def what_keeps(system: System, backups: Sequence[Standing], mine: list[Routine], now: datetime) -> dict[str, list[str]]:
    """As :func:`reasons`; everything of a retired system stays until a person lets it go."""
    found = reasons(backups, mine, now)
    if system.retired is not None and not system.let_go:
        for why in found.values():
            why.append("the system is retired: all stays until it is let go")
    return found


def _parts(backup: Standing) -> frozenset[str]:
    return frozenset(str(part["name"]) for part in backup.parts or ())
