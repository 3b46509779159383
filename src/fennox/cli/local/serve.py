"""Starting the service or a worker."""

from __future__ import annotations

import argparse
from pathlib import Path

from fennox.cli.main import Environment
from fennox.service.processes import wiring


def serve(arguments: argparse.Namespace, _environment: Environment) -> None:
    settings = wiring.read_settings(
        database=arguments.database,
        state=arguments.state,
        workers=arguments.slots,
        host=arguments.host,
        port=arguments.port,
    )
    wiring.serve(settings, _clock(arguments))


def work(arguments: argparse.Namespace, _environment: Environment) -> None:
    settings = wiring.read_settings(
        database=arguments.database, state=arguments.state, workers=arguments.slots
    )
    wiring.work(settings, _clock(arguments))


def _clock(arguments: argparse.Namespace) -> Path | None:
    return Path(arguments.simulated_clock) if arguments.simulated_clock else None
