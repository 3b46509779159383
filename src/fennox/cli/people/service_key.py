"""The service's own key, on its own machine."""

from __future__ import annotations

import argparse
import asyncio
from pathlib import Path

from fennox.cli.main import Environment
from fennox.cli.output import say
from fennox.service.foundation import key_file
from fennox.service.processes import wiring


def rotate(arguments: argparse.Namespace, _environment: Environment) -> None:
    """Anyone who can read the service's settings and key file may do this; it is audited."""
    settings = wiring.read_settings(database=arguments.database, state=arguments.state)
    clock = Path(arguments.simulated_clock) if arguments.simulated_clock else None
    count = asyncio.run(wiring.rotate_key(settings, clock, forget=arguments.forget_old))
    if arguments.forget_old:
        say(
            f"{count} values were still sealed under an older key and have been sealed again. The"
            " older keys are gone."
        )
        return
    say(
        f"A new key is in use, and {count} values are sealed under it. Running processes follow by"
        " themselves."
    )
    say(
        "The keys before stay in the file. Copy it to every machine that has one, then: fennox"
        " service-key rotate --forget-old"
    )


def seal(arguments: argparse.Namespace, _environment: Environment) -> None:
    settings = wiring.read_settings(database=arguments.database, state=arguments.state)
    key_file.seal(settings.state, settings.token())
    say(
        f"{key_file.SEALED} opens under the token {settings.pkcs11_token} alone, and"
        f" {key_file.NAME} is removed."
    )
    say('Set key_keeper = "pkcs11" and restart the service and its workers.')
    say(
        "Copies of the old file still open everything: rotate the key then, with fennox service-key"
        " rotate"
    )


def unseal(arguments: argparse.Namespace, _environment: Environment) -> None:
    settings = wiring.read_settings(database=arguments.database, state=arguments.state)
    key_file.unseal(settings.state, settings.token())
    say(f"{key_file.NAME} lies in clear again, and {key_file.SEALED} is removed.")
    say('Set key_keeper = "file" and restart the service and its workers.')
