"""Handing in what a person exported, and what is due."""

from __future__ import annotations

import argparse
from pathlib import Path

from fennox.cli.estate import runs
from fennox.cli.estate.backups import show_backup
from fennox.cli.main import Environment
from fennox.cli.output import say, show_list, when
from fennox.cli.signed_in import client
from fennox.client.api import Client
from fennox.core.errors import BadInput
from fennox.core.facts.run_results import TakeResult


def hand_in(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        if arguments.file is None:
            _list(service, arguments)
            return 0
        run = service.hand_in(
            arguments.system,
            _content(Path(arguments.file)),
            document=arguments.document,
            store=arguments.store,
            note=arguments.note,
        )
        run = runs.watch(service, run.id, arguments)
        if run.state != "done":
            return runs.ending(run)
        show_backup(service.backup(run.told(TakeResult).backup), arguments)
    if not arguments.quiet and not arguments.json:
        say(
            f"It stays on hold until a newer one is handed in. {arguments.file} is as secret as the"
            " backup: remove it."
        )
    return 0


def _content(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise BadInput(
            f"{path} cannot be read ({type(error).__name__}).", "Check the file."
        ) from error


def _list(service: Client, arguments: argparse.Namespace) -> None:
    show_list(
        service.hand_ins(arguments.system),
        [
            ("DOCUMENT", lambda item: item.document),
            ("WHAT", lambda item: item.title),
            (
                "HANDED IN",
                lambda item: f"{when(item.handed_in)} by {item.by}" if item.handed_in else "never",
            ),
            ("DUE", lambda item: when(item.due) if item.due else "now"),
            ("HOW", lambda item: item.how),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="document",
        none=(
            f"Nothing of {arguments.system} is handed in: what belongs to it is read from the"
            " machine."
        ),
    )
