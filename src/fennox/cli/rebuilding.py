"""Bringing the service back on an empty machine. It talks to no service: there is none."""

from __future__ import annotations

import argparse
import asyncio
import json
import os
from pathlib import Path

from fennox.cli import access
from fennox.cli.main import Environment
from fennox.cli.offline import credential
from fennox.cli.output import ask, can_ask, out, say
from fennox.core.errors import KeyUnknown, PersonNeeded
from fennox.core.time import parse_stamp
from fennox.service import wiring
from fennox.service.rebuilding import OwnBackup, Rebuilt
from fennox.service.wiring import Place

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
    address = arguments.store if "://" in arguments.store else os.path.abspath(arguments.store)
    login = credential(arguments)
    phrase = access.passphrase(arguments)

    def attempt(key: str | None) -> Rebuilt:
        place = Place(address, login, key)
        return asyncio.run(
            wiring.rebuild(settings, clock, place, phrase, arguments.backup, lambda own: _confirm(own, arguments))
        )

    try:
        done = attempt(arguments.accept_key)
    except KeyUnknown as error:
        done = attempt(_accepted(error))
    _tell(done, arguments)


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
        f"Fennox itself as of {taken:%Y-%m-%d %H:%M} UTC (backup {own.record.reference.backup[:12]}, by Fennox "
        f"{own.head.fennox}): {len(census.get('systems', []))} systems, {len(census.get('stores', []))} stores, "
        f"{len(census.get('routines', []))} routines, {len(census.get('users', []))} users."
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
        "Now start it with `fennox serve`. It looks into every store for what was backed up after this; "
        "users sign in with the passwords they had."
    )
