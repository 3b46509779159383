"""Restore access for somebody who is locked out; runs on the service's own machine."""

from __future__ import annotations

import argparse
import asyncio
from pathlib import Path

from fennox.cli.access import ask_twice, first_line
from fennox.cli.main import Environment
from fennox.cli.output import say
from fennox.service.processes import wiring


def recover(arguments: argparse.Namespace, _environment: Environment) -> None:
    """Anyone who can read the service's settings and key file may do this; it is audited."""
    settings = wiring.read_settings(database=arguments.database, state=arguments.state)
    password = (
        first_line(arguments.password_file)
        if arguments.password_file
        else ask_twice("New password: ")
    )
    done = asyncio.run(
        wiring.recover(
            settings,
            Path(arguments.simulated_clock) if arguments.simulated_clock else None,
            arguments.name,
            password,
            administrator=arguments.administrator,
            no_approvals=arguments.no_approvals,
        )
    )
    say(f"{arguments.name} can sign in with the new password. {done}")
