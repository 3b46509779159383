"""Fennox's own state: protecting it, and whether it is protected."""

from __future__ import annotations

import argparse

from fennox.cli.main import Environment
from fennox.cli.output import age, say, show_one, when
from fennox.cli.signed_in import client
from fennox.client.api import Client
from fennox.wire.ownstate import OwnStateShown, OwnStateWanted


def keep(arguments: argparse.Namespace, environment: Environment) -> None:
    wanted = OwnStateWanted(
        store=arguments.store,
        copy_to=arguments.copy_to or [],
        on_this_machine=arguments.on_this_machine,
    )
    with client(environment) as service:
        state = service.keep_own_state(wanted)
    _show(service, state, arguments)
    if not arguments.json and not arguments.quiet:
        say("The first backup of it is being taken; `fennox own-state show` shows when it exists.")


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service, service.own_state(), arguments)


def _show(service: Client, state: OwnStateShown, arguments: argparse.Namespace) -> None:
    if state.newest is not None:
        newest = (
            f"{when(state.newest)}, {age(state.newest, service.now())} ago: what was changed since"
            " would be lost"
        )
    else:
        newest = "none yet"
    show_one(
        state,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="backup",
        lines=[
            ("kept", f"yes, by the routine {state.routine}" if state.kept else "no"),
            *([("when", state.when)] if state.when else []),
            *([("stores", ", ".join(state.stores))] if state.stores else []),
            ("newest", newest),
            *([("held in", ", ".join(state.held_in))] if state.held_in else []),
            *([("next", when(state.next_run))] if state.next_run else []),
            *[("bring back", command) for command in state.rebuild],
            *[("warning", text) for text in state.warnings],
            *([] if state.kept else [("do", "fennox own-state keep STORE")]),
        ],
    )
