"""Passphrases, custody, adoption."""

from __future__ import annotations

import argparse
import os

from pydantic import SecretStr

from fennox.cli import access
from fennox.cli.access import first_line
from fennox.cli.estate import runs
from fennox.cli.host_keys import with_accepted_key
from fennox.cli.main import Environment
from fennox.cli.output import ask, can_ask, say, show_list, show_one, show_table, when
from fennox.cli.signed_in import client
from fennox.client.api import Client
from fennox.core.errors import BadInput, PersonNeeded
from fennox.core.facts.run_results import AdoptResult, RekeyResult
from fennox.wire.stores import (
    SUITES,
    AdoptStore,
    CustodyWanted,
    KeySetShown,
    NewPassphrase,
    PassphraseShown,
    Rekeyed,
    RekeyWanted,
    Suite,
    Unlock,
    Withdraw,
)
from fennox.wire.watch.runs import RunShown


def list_passphrases(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        sets = service.key_sets()
    if arguments.json or arguments.quiet or not sets:
        none = "There are no key sets yet. The first store makes one: fennox store add NAME ADDRESS"
        show_list(sets, [], as_json=arguments.json, quiet=arguments.quiet, key="name", none=none)
        return
    rows: list[list[object]] = [
        [keys.name, p.label, p.id, when(p.since), _tried(p), _guess(p), ", ".join(keys.stores)]
        for keys in sets
        for p in keys.passphrases
    ]
    show_table(
        ["KEY SET", "PASSPHRASE", "ID", "SINCE", "LAST TRIED", "A GUESS COSTS", "OPENS"], rows
    )


def _guess(shown: PassphraseShown) -> str:
    memory = (
        f"{shown.memory_kib // 1024} MiB" if shown.memory_kib >= 1024 else f"{shown.memory_kib} KiB"
    )
    return f"{memory}, once" if shown.passes == 1 else f"{memory}, {shown.passes} times"


def _show(keys: KeySetShown, arguments: argparse.Namespace) -> None:
    custody = (
        "kept: the service can open it"
        if keys.custody == "kept"
        else "apart: only a passphrase opens it"
    )
    show_one(
        keys,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        lines=[
            ("key set", f"{keys.name}, generation {keys.generation}"),
            ("custody", custody),
            ("suite", keys.suite),
            ("stores", ", ".join(keys.stores)),
            *[
                ("passphrase", f"{p.label}, since {when(p.since)}, last tried {_tried(p)}")
                for p in keys.passphrases
            ],
            *[("away", text) for text in keys.away],
        ],
    )


def suite(arguments: argparse.Namespace) -> Suite | None:
    """The suite chosen by ``--suite``."""
    return SUITES[arguments.suite] if arguments.suite else None


def _tried(shown: PassphraseShown) -> str:
    return when(shown.tried) if shown.tried else "never"


def _unlock(service: Client, key_set: str, arguments: argparse.Namespace) -> SecretStr | None:
    """A passphrase that currently opens the set; asked for only if the service cannot open it."""
    if arguments.passphrase_file:
        return SecretStr(first_line(arguments.passphrase_file))
    custody = {keys.name: keys.custody for keys in service.key_sets()}
    return None if custody.get(key_set) == "kept" else SecretStr(access.ask_secret("Passphrase: "))


def add_passphrase(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        unlock = _unlock(service, arguments.key_set, arguments)
        new = SecretStr(_new_phrase(arguments))
        wanted = NewPassphrase(label=arguments.label, new=new, passphrase=unlock)
        _show(service.add_passphrase(arguments.key_set, wanted), arguments)


def _new_phrase(arguments: argparse.Namespace) -> str:
    if arguments.new_file:
        return first_line(arguments.new_file)
    new = access.ask_secret("New passphrase: ")
    if access.ask_secret("Again: ") != new:
        raise BadInput("The two entries differ.", "Try again.")
    return new


def try_passphrase(arguments: argparse.Namespace, environment: Environment) -> None:
    phrase = access.passphrase(arguments)
    with client(environment) as service:
        keys = service.try_passphrase(arguments.key_set, phrase)
    newest = max((p for p in keys.passphrases if p.tried), key=lambda p: p.tried or "")
    _show(keys, arguments)
    if not arguments.json and not arguments.quiet:
        say(f"It is the passphrase {newest.label}, and opens {', '.join(keys.stores)}.")


def withdraw_passphrase(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        if not arguments.yes:
            say(
                f"Every header that {arguments.which} opens is removed from the stores that can be"
                " reached."
            )
            say(
                "Who copied one before, and knows the passphrase, still opens all backups, also"
                " later ones: after a leak make new keys, with fennox store rekey."
            )
            if not can_ask():
                raise PersonNeeded("Nobody confirmed it.", "Give --yes.")
            if ask("Type yes to withdraw it:") != "yes":
                raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
        wanted = Withdraw(
            which=arguments.which, passphrase=_unlock(service, arguments.key_set, arguments)
        )
        _show(service.withdraw_passphrase(arguments.key_set, wanted), arguments)


def custody(arguments: argparse.Namespace, environment: Environment) -> None:
    phrase = SecretStr(access.passphrase(arguments))
    with client(environment) as service:
        key_set = service.store(arguments.store).key_set
        _show(
            service.change_custody(
                key_set, CustodyWanted(custody=arguments.custody, passphrase=phrase)
            ),
            arguments,
        )


def hand_over(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        store = service.store(arguments.store)
        unlock = _unlock(service, store.key_set, arguments)
        service.hand_over(store.name, Unlock(passphrase=unlock))
    say(f"This service sweeps {store.name} from now on; any other one refuses to.")


def rekey(arguments: argparse.Namespace, environment: Environment) -> int:
    """New keys, then a run for each store of the set, followed to its end."""
    with client(environment) as service:
        key_set = service.store(arguments.store).key_set
        made = (
            service.go_on_rekeying(key_set)
            if arguments.go_on
            else _begin(service, key_set, arguments)
        )
        # the runs ask for the passphrase of the new keys
        arguments.passphrase_file = arguments.new_file or (
            arguments.passphrase_file if arguments.go_on else None
        )
        for text in made.key_set.away:
            say(text)
        codes = [runs.started(service, run, arguments, {"rekey": _rekeyed}) for run in made.runs]
    return max(codes, default=0)


def _begin(service: Client, key_set: str, arguments: argparse.Namespace) -> Rekeyed:
    [keys] = [keys for keys in service.key_sets() if keys.name == key_set]
    if not arguments.yes:
        gone = ", ".join(p.label for p in keys.passphrases)
        say(
            f"The key set {key_set} gets new keys in {', '.join(keys.stores)}. Its passphrases end:"
            f" {gone}."
        )
        say(
            "Backups taken from now on are under the new keys."
            if arguments.leave_old
            else "Every backup is sealed again; the next sweeps remove the old records."
        )
        say("Who has a copy of a store and the old passphrase can open that copy for ever.")
        if not can_ask():
            raise PersonNeeded("Nobody confirmed it.", "Give --yes.")
        if ask("Type yes to make new keys:") != "yes":
            raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
    unlock = _unlock(service, key_set, arguments)
    new = SecretStr(_new_phrase(arguments))
    wanted = RekeyWanted(
        label=arguments.label,
        new=new,
        passphrase=unlock,
        leave_old=arguments.leave_old,
        suite=suite(arguments),
    )
    made = service.rekey(key_set, wanted)
    say(
        f"{key_set} is at generation {made.key_set.generation}. Add further passphrases with"
        " `fennox passphrase add`."
    )
    return made


def _rekeyed(run: RunShown) -> str:
    done = run.told(RekeyResult).backups
    many = "backup is" if done == 1 else "backups are"
    return f"{done} {many} resealed in {run.store}; a sweep removes the old records."


def adopt(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        place = arguments.store
        if "/" not in place:
            return runs.started(
                service, service.adopt_backups(place), arguments, {"adopt": _adopted}
            )
        if not arguments.name:
            raise BadInput("A store that is new here needs a name.", "Give one with --name.")
        address = place if "://" in place else os.path.abspath(place)
        phrase = SecretStr(access.passphrase(arguments))

        def attempt(key: str | None) -> RunShown:
            return service.adopt_store(
                AdoptStore(
                    name=arguments.name,
                    address=address,
                    login=arguments.login,
                    key=key,
                    site=arguments.site,
                    passphrase=phrase,
                    custody=arguments.custody,
                    key_set=arguments.key_set,
                )
            )

        run = with_accepted_key(attempt, arguments, address)
        return runs.started(service, run, arguments, {"adopt": _adopted})


def _adopted(run: RunShown) -> str:
    result = run.told(AdoptResult)
    text = f"{result.backups} backups of {result.systems} systems were brought in from {run.store}"
    text += f", and {result.copies} copies of known ones." if result.copies else "."
    if result.unreadable:
        text += f" {result.unreadable} records could not be read."
    if result.backups:
        text += " Their systems need a login again: `fennox login set` for those named adopted-…"
    return text
