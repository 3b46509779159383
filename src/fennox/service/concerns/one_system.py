"""Problems of one system, from the facts about it. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import Away, ConcernFound
from fennox.core.format.manifest import Certificate, Finding
from fennox.core.schedule import schedule
from fennox.service.concerns import one_machine
from fennox.service.concerns.one_machine import certificate, lacks
from fennox.service.systems.dependence import lies_on

_OLD = timedelta(days=31)  # for systems taken manually
_DECIDED_WITHIN = timedelta(days=400)  # how far back due times are checked
GRACE = timedelta(minutes=30)  # a run must start within this time after it is due


@dataclass(frozen=True)
class NewestBackup:
    id: str
    time: datetime
    findings: list[Finding]
    certificates: list[Certificate]


@dataclass(frozen=True)
class DoubtfulBackup:
    id: str
    time: datetime
    because: str


@dataclass(frozen=True)
class SystemFacts:
    """Facts about one system from the catalogue. ``held``: stores with a sound copy of ``backup``,
    the newest good one. ``partial``: findings of the newest backup of some parts only. ``missed``:
    due times without a run.
    """

    system: System
    routines: list[Routine]
    kind_installed: bool
    backup: NewestBackup | None
    partial: list[Finding] | None
    held: list[StoreRow]
    doubtful: DoubtfulBackup | None
    missed: list[tuple[Routine, datetime]]
    has_active_run: bool
    lacking_to_come: list[Finding]


def of_system(facts: SystemFacts, away: Away, now: datetime) -> Iterator[ConcernFound]:
    if facts.backup is None:
        yield _no_backup(facts)
    else:
        yield from _of_backup(facts, facts.backup, away, now)
    if facts.doubtful is not None:
        yield _doubtful(facts.system.name, facts.doubtful)
    for routine, due in facts.missed:
        yield _missed(facts.system, routine, due, away)
    if not facts.routines:
        yield _no_routine(facts.system)
    for finding in facts.lacking_to_come:
        yield lacks(facts.system.name, finding)
    yield from one_machine.of_machine(
        facts.system,
        kind_installed=facts.kind_installed,
        has_active_run=facts.has_active_run,
        is_taken_on_change=any(row.mode == "on" and row.look_every for row in facts.routines),
        now=now,
    )


def _no_backup(facts: SystemFacts) -> ConcernFound:
    system = facts.system
    if facts.partial is None:
        return ConcernFound(
            "no-backup",
            "high",
            "system",
            system.name,
            f"{system.name} has no backup.",
            f"Run: fennox backup take {system.name}",
            "If it is lost today, it is rebuilt from memory.",
            system.created,
            cause="no-backup",
            together="{these} have no backup.",
        )
    lacking = [finding.text for finding in facts.partial if finding.code == "part-left-out"]
    return ConcernFound(
        "no-backup",
        "high",
        "system",
        system.name,
        f"{system.name} has no complete backup. {' '.join(lacking)}".rstrip(),
        f"Run: fennox backup take {system.name}",
        "A system rebuilt from it would be incomplete.",
        system.created,
    )


def _of_backup(
    facts: SystemFacts, backup: NewestBackup, away: Away, now: datetime
) -> Iterator[ConcernFound]:
    name = facts.system.name
    yield from _too_old(facts, backup, away, now)
    if facts.held and all(lies_on(store, facts.system) for store in facts.held):
        yield _only_on_itself(name, backup, facts.held)
    elif len(facts.held) == 1:
        yield _one_copy(name, backup, facts.held[0])
    for finding in backup.findings:
        if finding.severity == "warning":
            yield lacks(name, finding, since=backup.time)
    for item in backup.certificates:
        yield from certificate(name, item.document, datetime.fromtimestamp(item.until, UTC), now)


def _only_on_itself(name: str, backup: NewestBackup, held: list[StoreRow]) -> ConcernFound:
    where = " and ".join(store.name for store in held)
    return ConcernFound(
        "only-on-itself",
        "high",
        "system",
        name,
        f"The newest good backup of {name} exists only on {name} itself, in {where}.",
        "Copy it to a store elsewhere: --copy-to in its routine, or fennox backup copy.",
        "If that machine is lost, so is its backup.",
        backup.time,
        cause=f"only-on-itself|{where}",
        together=f"The newest good backups of {{these}} exist only on those machines, in {where}.",
    )


def _one_copy(name: str, backup: NewestBackup, store: StoreRow) -> ConcernFound:
    return ConcernFound(
        "one-copy",
        "low",
        "system",
        name,
        f"Only one copy of {name}'s newest good backup exists (store {store.name}).",
        "Copy it to another store: --copy-to in its routine, or fennox backup copy.",
        "If that store is lost, so is the backup.",
        backup.time,
        cause="one-copy",
        together="Only one copy exists of the newest good backup of each of {these}.",
    )


def _too_old(
    facts: SystemFacts, backup: NewestBackup, away: Away, now: datetime
) -> Iterator[ConcernFound]:
    """At most one concern: overdue by a routine, or old and taken by no routine."""
    system = facts.system
    if system.suspended_because:
        return
    whole = [routine for routine in facts.routines if routine.mode == "on" and not routine.parts]
    for routine in whole:
        if _has_passed_twice(routine, system, backup.time, now):
            yield _late(system, routine, backup, away, now)
            return
    if not whole and now - backup.time > _OLD:
        yield _old(system.name, backup, now)


def _has_passed_twice(routine: Routine, system: System, since: datetime, now: datetime) -> bool:
    """Two due times have passed, including the time to start a run."""
    plan = schedule.parse(routine.when, routine.zone)
    place = schedule.place_in(routine.spread, system.id) + GRACE
    due = plan.between(max(since, routine.decided_until - _DECIDED_WITHIN), now - place)
    return next(due, None) is not None and next(due, None) is not None


def _late(
    system: System, routine: Routine, backup: NewestBackup, away: Away, now: datetime
) -> ConcernFound:
    days = (now - backup.time).days
    hours = int((now - backup.time).total_seconds() // 3600)
    age = f"{days} days" if days > 1 else f"{hours} hours"
    return ConcernFound(
        "late",
        "high",
        "system",
        system.name,
        f"The newest good backup of {system.name} is {age} old; {routine.name} was due twice"
        " since.",
        f"Check its last run: fennox run list --system {system.name}",
        "Changes made since then would be lost.",
        backup.time,
        cause=away.cause(routine.store_id, system.site) or f"late|{routine.name}",
        together=f"{routine.name} was due twice since the newest good backups of {{these}}.",
        subject=backup.id,
    )


def _old(name: str, backup: NewestBackup, now: datetime) -> ConcernFound:
    return ConcernFound(
        "old",
        "low",
        "system",
        name,
        f"The newest good backup of {name} is {(now - backup.time).days} days old, and no routine"
        " takes this system on its own.",
        f"Run: fennox backup take {name}",
        "Changes made since then would be lost.",
        backup.time,
        cause="old",
        together=(
            "The newest good backups of {these} are over a month old, and no routine takes these"
            " systems on its own."
        ),
    )


def _doubtful(name: str, backup: DoubtfulBackup) -> ConcernFound:
    return ConcernFound(
        "doubtful",
        "high",
        "system",
        name,
        f"The backup of {name} of {backup.time:%Y-%m-%d %H:%M} UTC is doubtful: "
        f"{backup.because or 'somebody doubts it'}.",
        f"Look: fennox backup compare --system {name}. Then: fennox backup clear"
        f" {backup.id[:12]} --because …",
        "Until somebody has looked, no good backup expires because of it.",
        backup.time,
    )


def _missed(system: System, routine: Routine, due: datetime, away: Away) -> ConcernFound:
    return ConcernFound(
        "missed",
        "high",
        "system",
        system.name,
        f"{routine.name} was due for {system.name} at {due:%Y-%m-%d %H:%M} UTC, and no run has"
        " begun.",
        "Check the workers with `fennox status`, and what else is queued with `fennox run list`.",
        "",
        due,
        cause=away.cause(None, system.site) or f"missed|{routine.name}",
        together=f"{routine.name} was due for {{these}}, and no run has begun.",
        subject=routine.name,
    )


def _no_routine(system: System) -> ConcernFound:
    return ConcernFound(
        "no-routine",
        "low",
        "system",
        system.name,
        f"{system.name} is in no routine.",
        "Add it to one, or mute this concern if it is taken by hand on purpose.",
        since=system.created,
        cause="no-routine",
        together="{these} are in no routine.",
    )
