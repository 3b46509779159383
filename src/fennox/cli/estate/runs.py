"""Runs: listing, following with progress, stopping."""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Mapping
from datetime import datetime

from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from fennox.cli import access
from fennox.cli.main import FAILED, PERSON, Environment
from fennox.cli.output import can_ask, err, say, show_list, show_one, span, when
from fennox.cli.signed_in import client
from fennox.client.api import Client, ProblemError
from fennox.core.facts.run_results import RestoreResult
from fennox.core.words import counted, size
from fennox.wire.watch.runs import LogLine, RunShown


def list_runs(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.runs(system=arguments.system, state=arguments.state, limit=arguments.limit)
    show_list(
        found,
        [
            ("RUN", lambda run: run.id[:12]),
            ("KIND", lambda run: run.kind),
            ("OF", lambda run: run.system or run.store or "-"),
            ("STATE", lambda run: run.state),
            ("BY", lambda run: run.by),
            ("BEGUN", lambda run: when(run.started or run.created)),
            (
                "TOOK",
                lambda run: span(run.ended - run.started) if run.ended and run.started else "-",
            ),
            ("WHAT", lambda run: f"{run.outcome}; unusual" if run.odd else run.outcome),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="No run matches. Take a backup with `fennox backup take SYSTEM`.",
        spare=["BY", "TOOK"],
    )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        run = service.run(arguments.run)
        log = service.run_log(run.id)
    lines: list[tuple[str, object]] = [
        ("run", run.id),
        ("kind", f"{run.kind} of {run.system or run.store}"),
        ("state", run.state),
        ("by", run.by),
        ("begun", when(run.started)),
        ("ended", when(run.ended)),
        ("documents", f"{run.documents}, {size(run.bytes)}"),
    ]
    lines += [("reason", f"{run.reason} {run.remedy}")] if run.reason else []
    lines += [("unusual", run.odd)] if run.odd else []
    facts = (
        run.result.model_dump(exclude={"kind"}, exclude_none=True) if run.result is not None else {}
    )
    lines += list(facts.items())
    lines += [("step", f"{when(step.started)}  {step.title}") for step in run.steps]
    lines += [
        ("log", f"{when(line.at)}  {line.level}: {line.text}")
        for line in log
        if line.level != "expected"
    ]
    lines += [("expected", line.text) for line in log if line.level == "expected"]
    show_one(run, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


def stop(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        run = service.stop_run(arguments.run)
    lines: list[tuple[str, object]] = [("run", run.id), ("state", run.state)]
    show_one(run, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)
    if run.state == "running":
        say("It stops at its next step.")


def follow(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        run = watch(service, arguments.run, arguments)
    if arguments.json:
        print(json.dumps(run.model_dump(mode="json"), indent=2))
    elif arguments.quiet:
        print(run.id)
    return ending(run)


def ending(run: RunShown) -> int:
    """Print the state of a run; returns the exit code for it."""
    if run.state == "done":
        restored = isinstance(run.result, RestoreResult) and run.result.proved
        proved = " Everything is there again: proved." if restored else ""
        say(f"Done.{proved}", style="green")
        return 0
    if run.wants_passphrase:
        return PERSON  # already printed while following
    say(f"{run.reason} {run.remedy}".strip() or f"The run is {run.state}.", style="bold")
    return (
        PERSON
        if run.state == "waiting" or run.problem in ("person-needed", "passphrase-needed")
        else FAILED
    )


def started(
    service: Client,
    run: RunShown,
    arguments: argparse.Namespace,
    said: Mapping[str, Callable[[RunShown], str]],
) -> int:
    """Follow a run that was just started, unless ``--no-follow`` is given; print its result."""
    if arguments.no_follow:
        lines: list[tuple[str, object]] = [("run", run.id), ("state", run.state)]
        show_one(run, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)
        return 0
    ended = watch(service, run.id, arguments)
    if arguments.json:
        print(ended.model_dump_json(indent=2))
    if ended.state != "done":
        return ending(ended)
    if not arguments.json and not arguments.quiet:
        earlier = (
            " An earlier attempt was cut short; what that did is not counted here."
            if ended.attempt > 1
            else ""
        )
        say(said[ended.kind](ended) + earlier)
    return 0


def watch(service: Client, run_id: str, arguments: argparse.Namespace) -> RunShown:
    """Follow to the end, or until a person is needed; hands over the passphrase when it is asked
    for.
    """
    try:
        return _watched(service, run_id, arguments)
    except KeyboardInterrupt:
        if service.run(run_id).state == "queued":
            service.stop_run(run_id)
            say("It was not begun, and has left the queue.")
        else:
            say(f"It continues. Follow it with: fennox run follow {run_id[:12]}")
        raise


def _watched(service: Client, run_id: str, arguments: argparse.Namespace) -> RunShown:
    last: RunShown | None = None
    given = False
    with _Display() as display:
        for event in service.follow(run_id):
            if isinstance(event, LogLine):
                display.line(event)
                continue
            last = event
            display.run(event, service.now())
            if event.wants_passphrase and not given:
                display.pause()
                phrase = _passphrase(arguments)
                if phrase is None:
                    break
                given = _give(service, event.id, phrase)
            if event.state == "waiting":
                break
    return last if last is not None else service.run(run_id)


def _passphrase(arguments: argparse.Namespace) -> str | None:
    if not getattr(arguments, "passphrase_file", None) and not can_ask():
        say("The run waits for the passphrase: follow it with --passphrase-file.")
        return None
    return access.passphrase(arguments)


def _give(service: Client, run_id: str, phrase: str) -> bool:
    try:
        service.give_passphrase(run_id, phrase)
    except ProblemError as error:
        if error.slug != "wrong-passphrase" or not can_ask():
            raise
        say(f"{error.problem.detail} {error.problem.remedy}")
        return False
    return True


class _Display:
    """A bar on a terminal, plain lines elsewhere."""

    def __init__(self) -> None:
        self._step = ""
        self._bar = Progress(
            TextColumn("{task.description}"),
            BarColumn(bar_width=24),
            TextColumn("{task.fields[amount]}"),
            TimeElapsedColumn(),
            console=err,
            transient=True,
        )
        self._task = self._bar.add_task("Waiting for a worker", total=None, amount="")

    def __enter__(self) -> _Display:
        if err.is_terminal:
            self._bar.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.pause()

    def pause(self) -> None:
        if err.is_terminal:  # stopping a bar that was never started prints an empty line
            self._bar.stop()

    def line(self, line: LogLine) -> None:
        if line.level != "expected":  # `run show` has them
            err.print(f"{line.level}: {line.text}", markup=False)

    def run(self, run: RunShown, now: datetime) -> None:
        step = run.step or _since(run.waits_for)
        if step != self._step:
            self._step = step
            if step and not err.is_terminal:
                say(run.waits_for if run.waits_for else step)
        so_far = f"{counted(run.documents, 'document')}, {size(run.bytes)}" if run.documents else ""
        share = _share(run, now)
        self._bar.update(
            self._task,
            description=self._step or "Waiting for a worker",
            amount=so_far,
            total=100 if share is not None else None,
            completed=share or 0,
        )


def _since(waits_for: str) -> str:
    """What it waits for; without the time, which changes."""
    return waits_for.split(",")[0]


def _share(run: RunShown, now: datetime) -> float | None:
    """Percentage of the time earlier runs took; below 100 until the run ends."""
    if run.started is None or not run.expected_seconds:
        return None
    gone = (now - run.started).total_seconds()
    return min(gone / run.expected_seconds * 100, 97)
