"""Removal of a backup in three stages: marked, removable, removed. Pure. A ladder that no longer
keeps a backup only marks it. The first sweep that sees the mark starts the grace period; a later
sweep removes the backup after it. Unusually many removals, and the newest backup of anything, wait
for a person.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import Enum

GRACE = timedelta(hours=48)  # between the first sweep that saw a mark and the one that may remove
LATELY = timedelta(days=1)  # a system with a backup that is no older has had one pushed out by it
SHARE = 0.2  # of the backups of a system or a store; more, marked at one time, waits for a person


class Wait(Enum):
    """What the removal of a marked backup waits for."""

    FIRST_SWEEP = "first sweep"
    GRACE = "grace"
    NEWEST = "newest"
    SYSTEM_SHARE = "share of the system"
    STORE_SHARE = "share of the store"


BY_A_PERSON = frozenset({Wait.NEWEST, Wait.SYSTEM_SHARE, Wait.STORE_SHARE})
"""What only a person ends."""


@dataclass(frozen=True)
class MarkedBackup:
    """A backup in one store. ``parts``: those it holds, None if complete; ``taken``: its date.
    ``marked``: time of the last mark; None: unmarked or on hold. ``person``: marked by a person,
    for this backup or its retired system. ``first_seen``: when a sweep first saw the mark.
    """

    id: str
    system: str
    sequence: int
    taken: datetime
    good: bool
    parts: frozenset[str] | None
    marked: datetime | None
    person: bool = False
    first_seen: datetime | None = None


def waits(
    backups: Sequence[MarkedBackup], now: datetime, confirmed: Collection[str] = ()
) -> dict[str, Wait | None]:
    """What each marked backup of a store waits for; None: the sweep removes it. Unmarked ones are
    omitted. ``confirmed``: unusual removals confirmed by a person.
    """
    marked = [backup for backup in backups if backup.marked is not None]
    newest = _newest(backups)
    crowd_of_system, crowd_of_store = _unusual(backups)
    found: dict[str, Wait | None] = {}
    for backup in marked:
        sure = backup.person or backup.id in confirmed
        if not sure and backup.id in newest:
            found[backup.id] = Wait.NEWEST
        elif not sure and backup.id in crowd_of_system:
            found[backup.id] = Wait.SYSTEM_SHARE
        elif not sure and backup.id in crowd_of_store:
            found[backup.id] = Wait.STORE_SHARE
        elif backup.first_seen is None:
            found[backup.id] = Wait.FIRST_SWEEP
        elif not timedelta() <= now - backup.first_seen or now - backup.first_seen < GRACE:
            found[backup.id] = Wait.GRACE
        else:
            found[backup.id] = None
    return found


def _newest(backups: Sequence[MarkedBackup]) -> set[str]:
    """The newest backup of each system, its newest good one, and the newest of each selection of
    parts.
    """
    newest: dict[tuple[str, object], MarkedBackup] = {}
    for backup in backups:
        of = [(backup.system, "any")]
        if backup.good:
            of += [(backup.system, "good")]
        keys: list[tuple[str, object]] = [*of, (backup.system, backup.parts)]
        for key in keys:
            if key not in newest or newest[key].sequence < backup.sequence:
                newest[key] = backup
    return {backup.id for backup in newest.values()}


def _unusual(backups: Sequence[MarkedBackup]) -> tuple[set[str], set[str]]:
    """Backups marked together that exceed a share of their system's or the store's backups. Each
    new backup displaces an old one, which is normal however few there are. So a single backup of a
    recently taken system is never unusual, nor are many that were marked one after the other.
    """
    total: dict[str, int] = defaultdict(int)
    newest: dict[str, datetime] = {}
    together: dict[tuple[str, datetime], list[str]] = defaultdict(list)
    for backup in backups:
        total[backup.system] += 1
        newest[backup.system] = max(backup.taken, newest.get(backup.system, backup.taken))
        if backup.marked is not None and not backup.person:
            together[backup.system, backup.marked].append(backup.id)
    of_system: set[str] = set()
    at_once: dict[datetime, list[str]] = defaultdict(list)
    for (system, marked), ids in together.items():
        if len(ids) > 1 and len(ids) > SHARE * total[system]:
            of_system.update(ids)
        pushed_out = len(ids) == 1 and timedelta() <= marked - newest[system] <= LATELY
        if not pushed_out:
            at_once[marked] += ids
    of_store = {
        id
        for ids in at_once.values()
        if len(ids) > 1 and len(ids) > SHARE * len(backups)
        for id in ids
    }
    return of_system, of_store
