"""What is wrong with one system."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import Row

from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import Away, ConcernFound
from fennox.core.format.manifest import Certificate, Finding
from fennox.core.schedule import schedule
from fennox.service.systems.dependence import lies_on

ENDS_SOON = timedelta(days=30)  # certificates


_OLD = timedelta(days=31)  # of what people take by hand


GRACE = timedelta(minutes=30)  # after a due time in which a run must have begun


def subject_of(finding: Finding) -> str:
    """Backups of before December 2026 do not say what a finding is about: its words tell them
    apart.
    """
    return f"{finding.code}|{finding.subject or finding.text}"


@dataclass(frozen=True)
class NewestBackup:
    id: str
    time: datetime
    findings: list[Finding]
    certificates: list[Certificate]


def _only_partial(system: System, findings: list[Finding]) -> ConcernFound:
    lacking = [finding.text for finding in findings if finding.code == "part-left-out"]
    return ConcernFound(
        "no-backup",
        "high",
        "system",
        system.name,
        f"{system.name} has no whole backup. {' '.join(lacking)}".rstrip(),
        f"Run: fennox backup take {system.name}",
        "A rebuild from it would not be whole.",
        system.created,
    )


def of_system(
    system: System,
    mine: list[Routine],
    backup: NewestBackup | None,
    partial: list[Finding] | None,
    held: list[StoreRow],
    doubtful: dict[str, Row[*tuple[Any, ...]]],
    missed: dict[str, list[tuple[Routine, datetime]]],
    away: Away,
    now: datetime,
) -> Iterator[ConcernFound]:
    name = system.name
    if backup is None and partial is not None:
        yield _only_partial(system, partial)
    elif backup is None:
        yield ConcernFound(
            "no-backup",
            "high",
            "system",
            name,
            f"{name} has no backup.",
            f"Run: fennox backup take {name}",
            "If it is lost today, it is rebuilt from memory.",
            system.created,
            cause="no-backup",
            together="{these} have no backup.",
        )
    else:
        yield from _late(system, mine, backup, away, now)
        if held and all(lies_on(store, system) for store in held):
            where = " and ".join(store.name for store in held)
            yield ConcernFound(
                "only-on-itself",
                "high",
                "system",
                name,
                f"The newest good backup of {name} lies on the machine of {name} alone, in"
                f" {where}.",
                "Send it to a store elsewhere: --copy-to in its routine, or fennox backup copy.",
                "If that machine is lost, so is its backup.",
                backup.time,
                cause=f"only-on-itself|{where}",
                together=(
                    "The newest good backups of {these} lie on their own machines alone, in"
                    f" {where}."
                ),
            )
        elif len(held) == 1:
            yield ConcernFound(
                "one-copy",
                "low",
                "system",
                name,
                f"The newest good backup of {name} lies in one place only.",
                "Send it to a further store: --copy-to in its routine, or fennox backup copy.",
                "If that store is lost, so is the backup.",
                backup.time,
                cause="one-copy",
                together="The newest good backups of {these} lie in one place only.",
            )
        for finding in backup.findings:
            if finding.severity == "warning":
                yield ConcernFound(
                    "lacks",
                    "low",
                    "system",
                    name,
                    f"{name}: {finding.text}",
                    finding.remedy,
                    since=backup.time,
                    cause=f"lacks|{finding.text}",
                    together=f"{{these}}: {finding.text}",
                    subject=subject_of(finding),
                )
        for item in backup.certificates:
            yield from _certificate(
                name, item.document, datetime.fromtimestamp(item.until, UTC), now
            )
    if system.key_until is not None:
        yield from _certificate(name, "", system.key_until, now)
    for account in system.default_logins:
        yield ConcernFound(
            "default-login",
            "low",
            "system",
            name,
            f"The login {account} that every fresh installation has still works on {name}.",
            f"Change its password there; the next take sees it: fennox backup take {name}",
            "Whoever reaches its address can do there what they like.",
            cause=f"default-login|{account}",
            together=f"The login {account} of a fresh installation still works on {{these}}.",
            subject=account,
        )
    if (doubted := doubtful.get(system.id)) is not None:
        yield ConcernFound(
            "doubtful",
            "high",
            "system",
            name,
            f"The backup of {name} of {doubted.time:%Y-%m-%d %H:%M} UTC is doubtful: "
            f"{doubted.doubtful_because or 'somebody doubts it'}.",
            f"Look: fennox backup compare --system {name}. Then: fennox backup clear"
            f" {doubted.id[:12]} --because …",
            "It pushes no good backup out until somebody has looked.",
            doubted.time,
        )
    for routine, due in missed.get(system.id, []):
        yield ConcernFound(
            "missed",
            "high",
            "system",
            name,
            f"{name} was due by {routine.name} at {due:%Y-%m-%d %H:%M} UTC, and no run has begun.",
            "See `fennox status` for workers, and `fennox run list` for what stands in its way.",
            "",
            due,
            cause=away.cause(None, system.site) or f"missed|{routine.name}",
            together=f"{{these}} were due by {routine.name}, and no run has begun.",
            subject=routine.name,
        )
    if system.suspended_because:
        yield ConcernFound(
            "suspended",
            "high",
            "system",
            name,
            f"No routine takes {name}: {system.suspended_because}.",
            f"Finish the restore, or say: fennox system resume {name}",
            cause=f"suspended|{system.suspended_because}",
            together=f"No routine takes {{these}}: {system.suspended_because}.",
        )
    if not mine:
        yield ConcernFound(
            "no-routine",
            "low",
            "system",
            name,
            f"{name} is in no routine.",
            "Add one, or leave it by hand on purpose.",
            since=system.created,
            cause="no-routine",
            together="{these} are in no routine.",
        )


def _late(
    system: System, mine: list[Routine], backup: NewestBackup, away: Away, now: datetime
) -> Iterator[ConcernFound]:
    """Two due times of a routine have passed since the newest good backup."""
    for routine in mine:
        if routine.mode != "on" or routine.parts or system.suspended_because:
            continue
        plan = schedule.parse(routine.when, routine.zone)
        place = schedule.place_in(routine.spread, system.id) + GRACE
        passed = list(
            plan.between(max(backup.time, routine.decided_until - timedelta(days=400)), now - place)
        )[:2]
        if len(passed) == 2:
            days = (now - backup.time).days
            old = (
                f"{days} days"
                if days > 1
                else f"{int((now - backup.time).total_seconds() // 3600)} hours"
            )
            yield ConcernFound(
                "late",
                "high",
                "system",
                system.name,
                f"The newest good backup of {system.name} is {old} old; {routine.name} has wanted"
                " two since.",
                f"Look at its last run: fennox run list --system {system.name}",
                "What changed since then would be lost.",
                backup.time,
                cause=away.cause(routine.store_id, system.site) or f"late|{routine.name}",
                together=(
                    f"{routine.name} has wanted two backups of {{these}} since the newest good"
                    " ones."
                ),
                subject=backup.id,
            )
            return
    by_itself = any(routine.mode == "on" and not routine.parts for routine in mine)
    if not by_itself and now - backup.time > _OLD and not system.suspended_because:
        yield ConcernFound(
            "old",
            "low",
            "system",
            system.name,
            f"The newest good backup of {system.name} is {(now - backup.time).days} days old, and"
            " no routine takes it by itself.",
            f"Run: fennox backup take {system.name}",
            "What changed since then would be lost.",
            backup.time,
            cause="old",
            together=(
                "The newest good backups of {these} are over a month old; no routine takes them by"
                " itself."
            ),
        )


def _certificate(
    name: str, document: str, until: datetime, now: datetime
) -> Iterator[ConcernFound]:
    if until - now > ENDS_SOON:
        return
    what = (
        f"The certificate in {document} of {name}"
        if document
        else f"The certificate that {name} shows"
    )
    ended = until <= now
    text = f"{what} {'ended' if ended else 'ends'} on {until:%Y-%m-%d}."
    yield ConcernFound(
        "certificate",
        "high" if ended else "low",
        "system",
        name,
        text,
        "Renew it there; the next backup has the new one.",
        subject=document,
    )
