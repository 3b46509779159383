"""Work that needs no service: a store in a folder or on a far side."""

from __future__ import annotations

import argparse
import asyncio
from pathlib import Path
from typing import TYPE_CHECKING

from fennox.cli.access import ask_secret, first_line
from fennox.cli.main import Environment
from fennox.cli.output import say

if TYPE_CHECKING:
    from fennox.links.base import Credential


def rescue(arguments: argparse.Namespace, _environment: Environment) -> int:
    """Runs the same offline reader that is copied into every store, so that it is exercised in
    daily use.
    """
    from fennox import rescue as reader

    words = _words(arguments)
    if "://" not in arguments.store:
        return reader.run(words)
    from fennox.cli.local.far_files import FarFiles
    from fennox.stores import addresses
    from fennox.stores.opening import open_store

    loop = asyncio.new_event_loop()
    store = open_store(
        addresses.parse(arguments.store), credential(arguments), arguments.accept_key
    )
    try:
        say(f"{loop.run_until_complete(store.landed())}.")
        return reader.run(words, FarFiles(store, loop))
    finally:
        loop.run_until_complete(store.close())
        loop.close()


def _words(arguments: argparse.Namespace) -> list[str]:
    words = [arguments.verb, arguments.store]
    words += [arguments.backup] if hasattr(arguments, "backup") else []
    words += [arguments.pattern] if hasattr(arguments, "pattern") else []
    words += [arguments.to] if hasattr(arguments, "to") else []
    for name in ("names", "owners", "against", "against_passphrase_file", "passphrase_file"):
        value = getattr(arguments, name, None)
        words += [f"--{name.replace('_', '-')}", value] if value else []
    for name in ("part", "document"):
        for value in getattr(arguments, name, None) or []:
            words += [f"--{name}", value]
    return words


def credential(arguments: argparse.Namespace) -> Credential | None:
    from fennox.links.base import Credential

    if arguments.account is None:
        return None
    if arguments.key:
        return Credential(
            arguments.account, private_key=Path(arguments.key).read_text(encoding="utf-8")
        )
    given = arguments.password_file
    return Credential(
        arguments.account, password=first_line(given) if given else ask_secret("Password there: ")
    )
