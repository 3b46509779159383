"""Workers: who does the runs."""

from __future__ import annotations

import argparse

from fennox.cli.access import client
from fennox.cli.main import Environment
from fennox.cli.output import say, show_list, when


def list_workers(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.workers()
    show_list(
        found,
        [
            ("WORKER", lambda worker: worker.id[:12]),
            ("MACHINE", lambda worker: worker.name),
            ("VERSION", lambda worker: worker.version or "-"),
            ("STATE", lambda worker: worker.state),
            ("RUNS", lambda worker: worker.runs),
            ("HEARD OF", lambda worker: when(worker.seen)),
            ("CLOCK", lambda worker: f"{worker.skew:+.1f} s"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="No worker was heard of within a week. Start one with `fennox worker run`.",
    )


def drain(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.drain(arguments.worker)
    say("It takes nothing new, and finishes what it holds. `fennox worker list` shows when it has stopped.")
