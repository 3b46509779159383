"""Routines and the preview of what their ladders keep."""

from __future__ import annotations

import argparse

from fennox.cli.access import client
from fennox.cli.main import Environment
from fennox.cli.output import out, say, show_list, show_one, show_table, when
from fennox.wire.routines import NewRoutine, RoutineChange, RoutineShown


def add(arguments: argparse.Namespace, environment: Environment) -> None:
    wanted = NewRoutine(
        name=arguments.name,
        systems=arguments.systems,
        when=arguments.when,
        zone=arguments.zone,
        store=arguments.store,
        copy_to=arguments.copy_to or [],
        ladder=arguments.ladder,
        mode=arguments.mode,
        parts=arguments.part,
    )
    with client(environment) as service:
        _show(service.add_routine(wanted), arguments)


def change(arguments: argparse.Namespace, environment: Environment) -> None:
    wanted = RoutineChange(
        systems=arguments.systems,
        when=arguments.when,
        zone=arguments.zone,
        store=arguments.store,
        copy_to=arguments.copy_to,
        ladder=arguments.ladder,
        mode=arguments.mode,
    )
    with client(environment) as service:
        _show(service.change_routine(arguments.name, wanted), arguments)


def _show(routine: RoutineShown, arguments: argparse.Namespace) -> None:
    mode = {"on": "on", "off": "OFF", "by hand": "by hand only, on purpose"}[routine.mode]
    show_one(
        routine,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        lines=[
            ("routine", routine.name),
            ("state", mode),
            ("systems", f"{routine.systems}: {', '.join(routine.members) or 'none fits'}"),
            ("when", f"{routine.when} ({routine.zone})"),
            ("next run", when(routine.next_run)),
            ("last due", when(routine.last_due)),
            ("store", routine.store),
            *([("copies to", ", ".join(routine.copy_to))] if routine.copy_to else []),
            ("ladder", routine.ladder),
        ],
    )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service.routine(arguments.name), arguments)


def list_routines(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.routines()
    show_list(
        found,
        [
            ("ROUTINE", lambda routine: routine.name),
            ("STATE", lambda routine: routine.mode),
            ("WHEN", lambda routine: f"{routine.when} ({routine.zone})"),
            ("SYSTEMS", lambda routine: len(routine.members)),
            ("STORE", lambda routine: routine.store),
            ("NEXT RUN", lambda routine: when(routine.next_run)),
            ("LADDER", lambda routine: routine.ladder),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There is no routine yet. Add one with `fennox routine add --help`.",
    )


def preview(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.preview_routine(arguments.name)
    if arguments.json:
        print(found.model_dump_json(indent=2))
        return
    if arguments.quiet:
        for system in found.systems:
            for backup in system.backups:
                if backup.goes:
                    print(backup.backup)
        return
    coming = ", ".join(when(moment) for moment in found.next_runs[:3])
    out.print(f"next runs: {coming or 'none: it is not on'}", highlight=False)
    rows: list[list[object]] = [
        [system.system, backup.backup[:12], when(backup.time), ", ".join(backup.kept_by) or "GOES"]
        for system in found.systems
        for backup in system.backups
    ]
    if rows:
        show_table(["SYSTEM", "BACKUP ID", "TAKEN", "KEPT BY"], rows)
    say(f"{found.stays} backups stay, {found.goes} go.")


def remove(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.remove_routine(arguments.name)
    say(f"The routine {arguments.name} is removed; its backups stay.")
