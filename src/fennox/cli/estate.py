"""``fennox status``, kinds, and the audit."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from rich.text import Text

from fennox.cli.access import client
from fennox.cli.main import Environment
from fennox.cli.output import age, err, out, say, show_list, show_one, show_table, when
from fennox.core.errors import BadInput, NotFound
from fennox.core.names import printable

_CONCERNS = 50  # of ``status``
_SYSTEMS = 20  # in its table: what is wrong stands above it, and should still be seen


def status(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.status()
        if arguments.quiet:
            systems = []
        elif arguments.json or found.systems <= _SYSTEMS:
            systems = service.systems()
        else:
            systems = service.systems(retired=False, sort="newest_good", limit=_SYSTEMS)
    if arguments.json:
        listed = [system.model_dump(mode="json") for system in systems]
        print(json.dumps({**found.model_dump(mode="json"), "estate": listed}, indent=2))
        return
    if arguments.quiet:
        for concern in found.concerns:
            print(concern.about)
        return
    for concern in found.concerns[:_CONCERNS]:
        mark = ("AT RISK", "bold red") if concern.severity == "high" else ("look at", "yellow")
        words = " ".join(word for word in (concern.text, concern.means, concern.remedy) if word)
        out.print(Text.assemble(mark, f"  {words}"), soft_wrap=True)
    if (more := found.concerns_in_all - min(len(found.concerns), _CONCERNS)) > 0:
        out.print(f"         and {more} more, of the same causes or less bad: fennox concern list")
    if not found.concerns:
        out.print("[green]Nothing is wrong.[/green]")
    if not found.systems:
        step = "fennox system add" if found.stores else "fennox store add"
        say(f"No system is enrolled yet. Begin with `{step} --help`.")
        return
    out.print()
    show_table(
        ["SYSTEM", "KIND", "SITE", "NEWEST GOOD", "BACKUPS", "HELD IN", "NEXT RUN", "LAST RUN"],
        [
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
        ],
    )
    if found.systems > len(systems):
        say(f"Those of {found.systems} systems that are longest without a good backup; all: fennox system list")
    clock = " (simulated clock)" if found.simulated_clock else ""
    err.print(
        f"[dim]{found.protected} of {found.systems} systems protected; backups: {found.backups}, "
        f"stores: {found.stores}, muted concerns: {found.muted}, "
        f"workers: {found.workers}, active runs: {found.active_runs}. {when(found.at)}{clock}[/dim]"
    )


def add_kind(arguments: argparse.Namespace, environment: Environment) -> None:
    try:
        text = Path(arguments.file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{arguments.file} cannot be read ({type(error).__name__}).", "Check the file.") from error
    with client(environment) as service:
        found = service.add_kind(text)
    lines: list[tuple[str, object]] = [("kind", found.name), ("version", found.version), ("title", found.title)]
    show_one(found, as_json=arguments.json, quiet=arguments.quiet, key="name", lines=lines)
    if not arguments.json and not arguments.quiet:
        say(f"Enrol a system of it: fennox system add NAME {found.name} ADDRESS --login LOGIN")


def kinds(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.kinds()
    show_list(
        found,
        [
            ("KIND", lambda kind: kind.name),
            ("TITLE", lambda kind: kind.title),
            ("VERSION", lambda kind: kind.version),
            ("REACHED BY", lambda kind: f"{kind.reach} (port {kind.port})"),
            ("PARTS", lambda kind: ", ".join(part.name for part in kind.parts)),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There is no kind.",
    )


def kind(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = next((kind for kind in service.kinds() if kind.name == arguments.kind), None)
    if found is None:
        raise NotFound(f"There is no kind {arguments.kind}.", "`fennox kind list` shows those there are.")
    parts = [f"{part.name}: {part.title}{' (essential)' if part.essential else ''}" for part in found.parts]
    show_one(
        found,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        lines=[
            ("kind", f"{found.name} version {found.version}"),
            ("title", found.title),
            ("about", " ".join(found.about.split())),
            ("reached by", f"{found.reach} (port {found.port})"),
            *[("part", part) for part in parts],
            *[("takes", printable(text)) for part in found.parts for text in part.documents],
            ("counts", ", ".join(found.census)),
            *[("setting", f"{name}: {title}") for name, title in found.settings.items()],
            *[("left out", text) for text in found.left_out],
            *[("rule", printable(text)) for text in found.rules],
            *[("step", text) for text in found.steps],
        ],
    )


def audit(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.audit(arguments.limit)
    show_list(
        found,
        [
            ("AT", lambda entry: when(entry.at)),
            ("BY", lambda entry: entry.by),
            ("DID", lambda entry: f"{entry.action} {entry.noun} {entry.name[:24]}"),
            ("DETAILS", lambda entry: ", ".join(f"{key} {value}" for key, value in entry.details.items())),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="Nobody has done anything yet.",
    )
