"""What ``fennox status`` shows: concerns, then the systems longest without a good backup."""

from __future__ import annotations

import json
from collections.abc import Sequence

from rich.text import Text

from fennox.cli.output import age, err, out, say, show_table, when
from fennox.core.names import printable
from fennox.wire.machines.systems import SystemShown
from fennox.wire.watch.runs import Status

_MATTERS = 50  # at most


def ids(found: Status) -> None:
    for concern in found.concerns:
        print(concern.about)


def as_json(found: Status, systems: Sequence[SystemShown]) -> None:
    listed = [system.model_dump(mode="json") for system in systems]
    print(json.dumps({**found.model_dump(mode="json"), "estate": listed}, indent=2))


def _systems_table(found: Status, systems: Sequence[SystemShown]) -> None:
    rows: list[list[object]] = [
        [
            system.name,
            system.kind,
            system.site or "-",
            age(system.newest_good, found.at),
            system.backups,
            ", ".join(system.stores) or "-",
            when(system.next_run),
            f"{system.last_run.kind} {system.last_run.state}" if system.last_run else "-",
        ]
        for system in systems
    ]
    show_table(
        ["SYSTEM", "KIND", "SITE", "NEWEST GOOD", "BACKUPS", "HELD IN", "NEXT RUN", "LAST RUN"],
        rows,
        spare=["SITE", "KIND"],
    )
    if found.systems > len(systems):
        of = f"{len(systems)} of {found.systems} systems"
        say(f"These {of} have gone longest without a good backup; all: fennox system list")


def for_people(found: Status, systems: Sequence[SystemShown]) -> None:
    told = found.matters[:_MATTERS]
    for matter in told:
        mark = ("AT RISK", "bold red") if matter.severity == "high" else ("look at", "yellow")
        words = " ".join(word for word in (matter.text, matter.means, matter.remedy) if word)
        out.print(Text.assemble(mark, f"  {printable(words)}"), soft_wrap=True)
    if (more := found.concerns_in_all - sum(matter.in_all for matter in told)) > 0:
        out.print(f"         and {more} more, less bad: fennox concern list")
    elif any(matter.in_all > len(matter.about) or matter.in_all > 3 for matter in told):
        out.print("         all of them, each by itself: fennox concern list")
    if not found.concerns:
        out.print("[green]Nothing is wrong.[/green]")
    if not found.systems:
        step = "fennox system add" if found.stores else "fennox store add"
        say(f"No system is in use. Begin with `{step} --help`.")
        return
    out.print()
    _systems_table(found, systems)
    clock = " (simulated clock)" if found.simulated_clock else ""
    err.print(
        f"[dim]{found.protected} of {found.systems} systems protected; backups: {found.backups}, "
        f"stores: {found.stores}, muted concerns: {found.muted}, "
        f"workers: {found.workers}, active runs: {found.active_runs}."
        f" {when(found.at)}{clock}[/dim]",
        soft_wrap=True,
    )
