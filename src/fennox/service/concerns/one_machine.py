"""Problems of one system's machine, as last seen. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from fennox.catalogue.models.systems import System
from fennox.core.facts.concerns import ConcernFound
from fennox.core.format.manifest import Finding
from fennox.core.schedule.moments import MOST_SKEW

ENDS_SOON = timedelta(days=30)  # certificates
_TAKEN_WITHIN = timedelta(days=1)  # changes found by a routine's looks


def of_machine(
    system: System,
    *,
    kind_installed: bool,
    has_active_run: bool,
    is_taken_on_change: bool,
    now: datetime,
) -> Iterator[ConcernFound]:
    """``is_taken_on_change``: a routine takes the system when it differs from its last backup."""
    if not kind_installed:
        yield _no_kind(system)
    if system.key_until is not None:
        yield from certificate(system.name, "", system.key_until, now)
    for account in system.default_logins:
        yield _default_login(system.name, account)
    if system.suspended_because:
        yield _suspended(system)
    if system.left_open and not has_active_run:
        yield _left_open(system)
    if system.skew is not None and abs(system.skew) > MOST_SKEW:
        yield _clock(system.name, system.skew)
    if system.differs and not (is_taken_on_change and _differs_since_today(system, now)):
        yield _differs(system)


def subject_of(finding: Finding) -> str:
    """Backups older than December 2026 do not record what a finding is about, so only its text
    distinguishes two of one code.
    """
    return f"{finding.code}|{finding.subject or finding.text}"


def lacks(name: str, finding: Finding, since: datetime | None = None) -> ConcernFound:
    return ConcernFound(
        "lacks",
        "low",
        "system",
        name,
        f"{name}: {finding.text}",
        finding.remedy,
        since=since,
        cause=f"lacks|{finding.text}",
        together=f"{{these}}: {finding.text}",
        subject=subject_of(finding),
    )


def certificate(name: str, document: str, until: datetime, now: datetime) -> Iterator[ConcernFound]:
    """``document``: where it was captured; empty: the machine presents it."""
    if until - now > ENDS_SOON:
        return
    which = f"in {document} of {name}" if document else f"that {name} presents"
    has_expired = until <= now
    yield ConcernFound(
        "certificate",
        "high" if has_expired else "low",
        "system",
        name,
        f"The certificate {which} {'expired' if has_expired else 'expires'} on {until:%Y-%m-%d}.",
        "Renew it on the machine; the next backup captures the new one.",
        subject=document,
    )


def _no_kind(system: System) -> ConcernFound:
    return ConcernFound(
        "no-kind",
        "high",
        "system",
        system.name,
        f"{system.name} is of the kind {system.kind}, which is not installed here.",
        "Add its file: fennox kind add FILE. Its backups carry it: fennox backup export",
        "It can be neither taken nor restored.",
        cause=f"no-kind|{system.kind}",
        together=f"{{these}} are of the kind {system.kind}, which is not installed here.",
    )


def _default_login(name: str, account: str) -> ConcernFound:
    return ConcernFound(
        "default-login",
        "low",
        "system",
        name,
        f"The factory login {account} still works on {name}.",
        "Change its password on the machine; the next take checks again: fennox backup take"
        f" {name}",
        "Anyone who can reach the address can sign in.",
        cause=f"default-login|{account}",
        together=f"The factory login {account} still works on {{these}}.",
        subject=account,
    )


def _suspended(system: System) -> ConcernFound:
    return ConcernFound(
        "suspended",
        "high",
        "system",
        system.name,
        f"No routine takes {system.name}: {system.suspended_because}.",
        f"Finish the restore, or run: fennox system resume {system.name}",
        cause=f"suspended|{system.suspended_because}",
        together=f"No routine takes {{these}}: {system.suspended_because}.",
    )


def _left_open(system: System) -> ConcernFound:
    return ConcernFound(
        "left-open",
        "high",
        "system",
        system.name,
        f"A take of {system.name} did this and could not undo it: {', '.join(system.left_open)}.",
        f"Take it again, which undoes it first: fennox backup take {system.name}. Or undo"
        f" it on the machine, then run: fennox system resume {system.name}",
        "Something on the machine may be stopped, locked or open.",
    )


def _clock(name: str, skew: float) -> ConcernFound:
    return ConcernFound(
        "clock",
        "low",
        "system",
        name,
        f"The clock of {name} was {_span(abs(skew))} {'ahead' if skew > 0 else 'behind'} at the"
        " last take.",
        "Synchronize it with a time server; the next take checks again.",
        "Its certificates, schedules and logs go by that clock.",
        cause="clocks-of-systems",
        together="The clocks of {these} were wrong at the last take.",
    )


def _differs(system: System) -> ConcernFound:
    return ConcernFound(
        "differs",
        "low",
        "system",
        system.name,
        f"{system.name} differs from its last backup: {system.differs}.",
        f"See: fennox backup compare --system {system.name} --live. Then: "
        f"fennox backup take {system.name}",
        "A restore would bring the earlier state back.",
        since=system.differs_since,
        cause="differs",
        together="{these} differ from their last backups.",
    )


def _differs_since_today(system: System, now: datetime) -> bool:
    return system.differs_since is not None and now - system.differs_since < _TAKEN_WITHIN


def _span(seconds: float) -> str:
    for unit, length in (("days", 86400), ("hours", 3600), ("minutes", 60)):
        if seconds >= 2 * length:
            return f"{seconds / length:.0f} {unit}"
    return f"{seconds:.0f} seconds"
