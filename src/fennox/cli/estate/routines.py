"""Routines and the preview of what their ladders keep."""

from __future__ import annotations

import argparse
from datetime import date, timedelta
from pathlib import Path

from fennox.cli.main import Environment
from fennox.cli.output import out, say, show_list, show_one, show_table, span, when
from fennox.cli.signed_in import client
from fennox.core.errors import BadInput
from fennox.core.words import first_few
from fennox.wire.routines import Load, NewRoutine, RoutineChange, RoutineShown

_MARKS = "▁▂▃▄▅▆▇█"


_ONCE_ON = "every day at 02:40"  # the schedule of a manual routine, in case it is ever switched on


def add(arguments: argparse.Namespace, environment: Environment) -> None:
    if arguments.when is None and arguments.mode == "on":
        raise BadInput(
            "The schedule is missing.",
            "Give --when, like 'every day at 02:40', or --mode 'by hand'.",
        )
    wanted = NewRoutine(
        name=arguments.name,
        systems=arguments.systems,
        when=arguments.when or _ONCE_ON,
        zone=arguments.zone,
        store=arguments.store,
        copy_to=arguments.copy_to or [],
        ladder=arguments.ladder,
        mode=arguments.mode,
        parts=arguments.part,
        spread=arguments.spread,
        quiet=arguments.quiet_hours,
        look_every=arguments.look_every,
        settle=arguments.settle,
        most_a_day=arguments.most_a_day,
        run_now=arguments.now,
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
        parts=arguments.part,
        spread=arguments.spread,
        quiet=arguments.quiet_hours,
        look_every=arguments.look_every,
        settle=arguments.settle,
        most_a_day=arguments.most_a_day,
    )
    with client(environment) as service:
        _show(service.change_routine(arguments.name, wanted), arguments)


def _looks(routine: RoutineShown) -> str:
    every = f"every {routine.look_every} minutes"
    if routine.mode == "by hand":
        return f"{every}; differences are reported"
    return (
        f"{every}; what differs for {routine.settle} minutes is taken, at most {routine.most_a_day}"
        " times a day"
    )


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
            ("systems", f"{routine.systems}: {_taken(routine)}"),
            ("when", f"{routine.when} ({routine.zone})"),
            *([("parts", ", ".join(routine.parts))] if routine.parts else []),
            *(
                [("spread", f"its systems begin over {routine.spread} minutes")]
                if routine.spread
                else []
            ),
            *([("quiet hours", f"{routine.quiet}: nothing begins then")] if routine.quiet else []),
            *([("looks", _looks(routine))] if routine.look_every else []),
            ("next run", when(routine.next_run)),
            ("last due", when(routine.last_due)),
            ("store", routine.store),
            *([("copies to", ", ".join(routine.copy_to))] if routine.copy_to else []),
            ("ladder", routine.ladder),
        ],
    )


def _taken(routine: RoutineShown) -> str:
    members = routine.members
    return first_few(members, len(members), in_all=routine.in_all) if members else "none fits"


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
            ("SYSTEMS", lambda routine: routine.in_all),
            ("STORE", lambda routine: routine.store),
            ("NEXT RUN", lambda routine: when(routine.next_run)),
            ("LADDER", lambda routine: routine.ladder),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There are no routines yet. Add one with `fennox routine add --help`.",
    )


def preview(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.preview_routine(arguments.name, arguments.system)
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
        [
            system.system,
            backup.backup[:12],
            when(backup.time),
            ", ".join(backup.kept_by) or "GOES",
            (
                "now"
                if backup.goes
                else f"{backup.goes_at.astimezone():%Y-%m-%d}"
                if backup.goes_at
                else "-"
            ),
        ]
        for system in found.systems
        for backup in system.backups
    ]
    if rows:
        show_table(["SYSTEM", "BACKUP ID", "TAKEN", "KEPT BY", "GOES"], rows)
    if arguments.system is None and found.in_all > len(found.systems):
        say(
            f"The first {len(found.systems)} of its {found.in_all} systems; another one: --system"
            " SYSTEM"
        )
    say(f"{found.stays} backups stay, {found.goes} go.")


def coming(arguments: argparse.Namespace, environment: Environment) -> None:
    """A line for each day: its hours as a row of marks, the runs, and how long they are expected to
    take.
    """
    with client(environment) as service:
        if arguments.calendar:
            Path(arguments.calendar).write_bytes(service.calendar())
            say(f"The coming runs are in {arguments.calendar}.")
            return
        found = service.coming_runs()
    if arguments.json:
        print(found.model_dump_json(indent=2))
        return
    if arguments.quiet:
        print("\n".join(str(item.hour) for item in found.load))
        return
    if not found.load:
        say("Nothing comes in the next two weeks. Add a routine with `fennox routine add --help`.")
        return
    rows = _days(found.load, found.slots)
    show_table(["DAY", "HOURS 0 TO 23", "RUNS", f"WORK, {found.slots} AT A TIME"], rows)
    for wait in found.collisions:
        say(f"{wait.system}: {wait.routine} at {when(wait.at)} will wait for {wait.waits_for}.")


def _days(load: list[Load], slots: int) -> list[list[object]]:
    """A row for each day."""
    by_day: dict[date, list[Load]] = {}
    for item in load:
        by_day.setdefault(item.hour.astimezone().date(), []).append(item)
    busiest = max(item.seconds for item in load)
    rows: list[list[object]] = []
    for day, hours in sorted(by_day.items()):
        marks = [" "] * 24
        for item in hours:
            share = item.seconds / busiest
            marks[item.hour.astimezone().hour] = _MARKS[int(share * (len(_MARKS) - 1))]
        seconds = sum(item.seconds for item in hours) / max(slots, 1)
        runs = sum(item.runs for item in hours)
        work = span(timedelta(seconds=seconds))
        rows.append([f"{day:%a %Y-%m-%d}", "".join(marks), runs, work])
    return rows


def remove(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.remove_routine(arguments.name)
    say(f"The routine {arguments.name} is removed; its backups stay.")
