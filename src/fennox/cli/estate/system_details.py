"""One system on a terminal."""

from __future__ import annotations

import argparse
from datetime import datetime

from fennox.cli.main import Environment
from fennox.cli.output import age, say, show_list, when
from fennox.cli.signed_in import client
from fennox.core.names import printable
from fennox.wire.machines.hazards import Hazard, Hazards, HazardSort
from fennox.wire.machines.relations import Relations
from fennox.wire.machines.systems import SystemShown

Line = tuple[str, object]


def lines_of(system: SystemShown, now: datetime, relations: Relations | None) -> list[Line]:
    lines = _identity(system) + _backups(system, now)
    lines += [(f"setting {name}", value) for name, value in system.settings.items()]
    lines += [("missing", f"{finding.text} {finding.remedy}") for finding in system.missing]
    lines += _standing(system)
    if relations is not None:
        lines += _relations(relations)
    return lines


def _identity(system: SystemShown) -> list[Line]:
    machine = system.machine
    return [
        ("system", system.name),
        ("kind", system.kind),
        ("address", system.address),
        ("login", system.login or "-"),
        ("key", system.key or "-"),
        ("machine", f"{machine.name} {machine.id}" if machine else "-"),
        ("version", f"{machine.product} {machine.version}" if machine else "-"),
        ("site", system.site or "-"),
        ("labels", ", ".join(system.labels) or "-"),
    ]


def _backups(system: SystemShown, now: datetime) -> list[Line]:
    newest = system.newest_good
    return [
        ("newest good", f"{when(newest)} ({age(newest, now)})" if newest else "never"),
        ("backups", f"{system.backups}, newest in {', '.join(system.stores) or 'no store'}"),
        ("routines", ", ".join(system.routines) or "none"),
        ("next run", when(system.next_run)),
    ]


def _standing(system: SystemShown) -> list[Line]:
    """Facts that only some systems have."""
    lines: list[Line] = []
    if system.looked:
        differs = f"it differs since {when(system.differs_since)}: {system.differs}"
        seen = differs if system.differs else "no difference"
        lines.append(("last look", f"{when(system.looked)}, {seen}"))
    if system.left_open:
        lines.append(("LEFT OPEN", f"not undone after a take: {', '.join(system.left_open)}"))
    if system.retired:
        backups = "its backups go by their ladders" if system.let_go else "all its backups stay"
        lines.append(("RETIRED", f"{when(system.retired)}: {system.retired_because}; {backups}"))
    if system.spare:
        lines.append(("SPARE", "it is there to practise on; no routine takes it"))
    if system.suspended_because:
        lines.append(("SUSPENDED", f"no routine takes it: {system.suspended_because}"))
    if system.via:
        lines.append(("reached through", system.via))
    if system.patience != 15:
        lines.append(("waited for", f"{system.patience} s at each connection"))
    if system.key_until:
        lines.append(("shown certificate", f"ends {when(system.key_until)}"))
    return lines


_HAZARDS: dict[HazardSort, str] = {
    "asks": "a person is asked",
    "must-hold": "must hold",
    "no-way-back": "no way back after it",
    "not-undone": "not undone if given up",
    "restarts": "restarts",
    "leaves-open": "leaves it in a special state",
}


def hazards(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.hazards(arguments.system)
    if arguments.json:
        print(found.model_dump_json(indent=2))
        return
    show_list(
        found.items,
        [
            ("WHEN", lambda item: item.phase),
            ("STEP", lambda item: item.step),
            ("WHY IT MATTERS", lambda item: ", ".join(_HAZARDS[sort] for sort in item.sorts)),
            ("MET", lambda item: met(item, found.kind_version)),
        ],
        as_json=False,
        quiet=arguments.quiet,
        key="step",
        none=f"A restore of the kind {found.kind} has no step that asks, restarts or cannot be"
        " undone.",
        spare=["WHEN"],
    )
    if not arguments.quiet:
        for sentence in found.versions:
            say(sentence)
        if found.items:
            say(summary(arguments.system, found))


def met(hazard: Hazard, kind_version: int) -> str:
    """When it was met, by which version of the kind if that was another one."""
    found = hazard.met or hazard.met_elsewhere
    if found is None:
        return "never"
    how = "practised" if found.purpose == "practise" else found.purpose
    where = "" if hazard.met is not None else f" at {found.system} only"
    older = f" (version {found.kind_version})" if found.kind_version != kind_version else ""
    return f"{how} {when(found.at)}{where}{older}"


def summary(system: str, found: Hazards) -> str:
    never = sum(item.met is None for item in found.items)
    if not never:
        return f"All of these were met in proved restores of {system}."
    return (
        f"{never} of {len(found.items)} were never met in a proved restore of {system}. Practise on"
        f" a spare: fennox restore draft BACKUP --practise --onto SPARE"
    )


def _relations(relations: Relations) -> list[Line]:
    lines: list[Line] = []
    lines += [("needs first", f"{other.name} ({other.because})") for other in relations.needs]
    lines += [("needed by", f"{other.name} ({other.because})") for other in relations.needed_by]
    lines += [("not enrolled", f"{host.name} ({host.because})") for host in relations.strangers]
    lines += [("replicates with", peer) for peer in relations.peers]
    lines += [("", sentence) for sentence in relations.replicas]
    lines += [
        ("certificate", f"{printable(item.document)} ({item.subject}) ends {when(item.until)}")
        for item in relations.certificates
    ]
    return lines
