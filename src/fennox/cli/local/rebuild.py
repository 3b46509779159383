"""Rebuilding the service on an empty machine. Talks to no service, since none is running."""

from __future__ import annotations

import argparse
import asyncio
import json
import os
from pathlib import Path

from fennox.cli import access
from fennox.cli.local.offline import credential
from fennox.cli.main import Environment
from fennox.cli.output import ask, can_ask, out, say
from fennox.core.errors import BadInput, KeyUnknown, NotFound, PersonNeeded
from fennox.core.time import parse_stamp
from fennox.service.own_state import recovery_plan
from fennox.service.own_state.own_backup import OwnBackup
from fennox.service.own_state.rebuilt_secrets import Rebuilt
from fennox.service.processes import wiring
from fennox.service.processes.wiring import RebuildPlace
from fennox.wire.recovery import RecoverySheet

_TOLD = {
    "systems": "systems",
    "routines": "routines",
    "stores": "stores",
    "logins": "logins",
    "users": "users",
    "backups": "backups in the catalogue",
    "runs": "runs in the log book",
}


def rebuild(arguments: argparse.Namespace, _environment: Environment) -> None:
    settings = wiring.read_settings(database=arguments.database, state=arguments.state)
    clock = Path(arguments.simulated_clock) if arguments.simulated_clock else None
    phrase = access.passphrase(arguments)
    found = (
        _on_sheet(arguments, phrase)
        if arguments.kit
        else RebuildPlace(_address(arguments.store), None, None)
    )
    login = credential(arguments) or found.credential

    def attempt(key: str | None) -> Rebuilt:
        place = RebuildPlace(found.address, login, key)
        return asyncio.run(
            wiring.rebuild(
                settings,
                clock,
                place,
                phrase,
                arguments.backup,
                lambda own: _confirm(own, arguments),
            )
        )

    try:
        done = attempt(arguments.accept_key or found.key)
    except KeyUnknown as error:
        done = attempt(_accepted(error))
    _tell(done, arguments)


def _address(given: str) -> str:
    return given if "://" in given else os.path.abspath(given)


def _on_sheet(arguments: argparse.Namespace, passphrase: str) -> RebuildPlace:
    """A store named on a kit's sheet, with the login sealed there."""
    file = Path(arguments.kit) / "sheet.json"
    try:
        sheet = RecoverySheet.model_validate_json(file.read_bytes())
    except (OSError, ValueError) as error:
        raise BadInput(
            f"{file} cannot be read ({type(error).__name__}).", "Give the folder of the kit."
        ) from error
    store = next((store for store in sheet.stores if store.name == arguments.store), None)
    if store is None:
        names = ", ".join(one.name for one in sheet.stores)
        raise NotFound(f"The sheet has no store {arguments.store}.", f"It has: {names}.")
    return RebuildPlace(store.address, recovery_plan.login_of(store, passphrase), store.key)


def _accepted(error: KeyUnknown) -> str:
    offered = str(error.fields.get("fingerprint", ""))
    if not offered or not can_ask():
        raise error
    say(f"{error.what}\nIt offers {offered}. Compare it with the recovery sheet.")
    if ask("Type yes to accept it:") != "yes":
        raise PersonNeeded("The key was not accepted.", "Nothing was changed.")
    return offered


def _confirm(own: OwnBackup, arguments: argparse.Namespace) -> None:
    taken = parse_stamp(own.record.reference.time)
    census = own.head.census
    say(
        f"Fennox itself as of {taken:%Y-%m-%d %H:%M} UTC (backup"
        f" {own.record.reference.backup[:12]}, by Fennox {own.head.fennox}):"
        f" {len(census.get('systems', []))} systems, {len(census.get('stores', []))} stores,"
        f" {len(census.get('routines', []))} routines, {len(census.get('users', []))} users."
    )
    for text in own.passed:
        say(text, style="bold")
    say("The new service takes the old one's place. The old one must never run again beside it.")
    if arguments.yes:
        return
    if not can_ask():
        raise PersonNeeded("Nobody confirmed it.", "Give --yes.")
    if ask("Type yes to rebuild it here:") != "yes":
        raise PersonNeeded("It was not confirmed.", "Nothing was changed.")


def _tell(done: Rebuilt, arguments: argparse.Namespace) -> None:
    if arguments.json:
        print(json.dumps({"rows": done.rows, "left": done.left}, indent=2))
        return
    for table, text in _TOLD.items():
        out.print(f"{done.rows.get(table, 0):7}  {text}")
    for text in done.left:
        say(f"STILL TO DO: {text}")
    say(
        "Now start it with `fennox serve`. It looks into every store for what was backed up after"
        " this; users sign in with the passwords they had."
    )
