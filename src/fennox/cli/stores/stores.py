"""Stores and logins."""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator
from typing import TypeVar

from pydantic import SecretStr

from fennox.cli import access
from fennox.cli.estate import runs
from fennox.cli.host_keys import with_accepted_key
from fennox.cli.main import FAILED, Environment
from fennox.cli.output import ask, can_ask, out, say, show_list, show_one, show_table, when
from fennox.cli.signed_in import client
from fennox.cli.stores.key_sets import suite
from fennox.core.errors import PersonNeeded
from fennox.core.facts.run_results import ScrubResult
from fennox.core.words import counted, first_few, size
from fennox.wire.stores import (
    EntryShown,
    FolderShown,
    Look,
    NewStore,
    StoreChange,
    StoreShown,
)
from fennox.wire.watch.runs import RunShown

T = TypeVar("T")


def add(arguments: argparse.Namespace, environment: Environment) -> None:
    address = (
        arguments.address if "://" in arguments.address else os.path.abspath(arguments.address)
    )
    with client(environment) as service:
        known = {store.key_set: store.custody for store in service.stores()}
        needs = arguments.passphrase_file or known.get(arguments.key_set) != "kept"
        phrase = (
            access.passphrase(arguments, twice=arguments.key_set not in known) if needs else None
        )

        def attempt(key: str | None) -> StoreShown:
            return service.add_store(
                NewStore(
                    name=arguments.name,
                    address=address,
                    login=arguments.login,
                    sweep_login=arguments.sweep_login,
                    key=key,
                    site=arguments.site,
                    passphrase=SecretStr(phrase) if phrase else None,
                    label=arguments.label,
                    key_set=arguments.key_set,
                    custody=arguments.custody,
                    suite=suite(arguments),
                    plain_names=arguments.plain_names == "yes",
                    beside=arguments.beside,
                )
            )

        store = with_accepted_key(attempt, arguments, address)
        own = service.own_state()
    _show(store, arguments)
    if not arguments.json and not arguments.quiet:
        _say_next(store.name, own_state_kept=own.kept)


def _say_next(store: str, *, own_state_kept: bool) -> None:
    say(
        "Keep the passphrase where it is found when this machine is gone. Nobody can open the"
        " backups without it."
    )
    if not own_state_kept:
        say(
            "Fennox itself is not backed up yet. If this store is on another machine: fennox"
            f" own-state keep {store}"
        )


def _show(store: StoreShown, arguments: argparse.Namespace) -> None:
    lines = list(_lines(store))
    show_one(store, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


_CUSTODY = {
    "kept": "kept: the service can open it",
    "apart": "apart: only the passphrase opens it",
}


def _lines(store: StoreShown) -> Iterator[tuple[str, object]]:
    yield "store", store.name
    yield "address", f"{store.address} (plain)" if store.plain else store.address
    for name, value in (
        ("login", store.login),
        ("sweeps as", store.sweep_login),
        ("accepted", store.key),
        ("site", store.site),
    ):
        if value:
            yield name, value
    yield "key set", f"{store.key_set}, generation {store.generation}"
    yield "suite", store.suite
    yield "custody", _CUSTODY[store.custody]
    for slot in store.passphrases:
        yield "passphrase", f"{slot.label}, since {when(slot.since)}"
    yield "backups", store.backups
    yield "newest", when(store.newest)
    free, total = store.free, store.total or 0
    yield "room", f"{size(free)} free of {size(total)}" if free is not None else "unknown"
    if store.ceiling:
        yield "ceiling", _ceiling(store)
    budget = size(store.scrub_budget)
    yield "last scrub", f"{when(store.scrubbed)}; a scheduled one reads at most {budget}"
    yield "last sweep", when(store.swept)
    for text in store.warnings:
        yield "warning", text


def _ceiling(store: StoreShown) -> str:
    over = f"; above it since {when(store.over_since)}" if store.over_since else ""
    return f"{store.ceiling} for backups{over}"


def list_stores(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.stores()
    show_list(
        found,
        [
            ("STORE", lambda store: store.name),
            ("ADDRESS", lambda store: f"{store.address} (plain)" if store.plain else store.address),
            ("CUSTODY", lambda store: store.custody),
            ("BACKUPS", lambda store: store.backups),
            ("NEWEST", lambda store: when(store.newest)),
            ("FREE", lambda store: size(store.free) if store.free is not None else "not told"),
            ("WARNINGS", lambda store: len(store.warnings) or "-"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There are no stores yet. Add one with `fennox store add NAME FOLDER`.",
    )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service.store(arguments.store), arguments)


def change(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        address = service.store(arguments.store).address

        def attempt(key: str | None) -> StoreShown:
            wanted = StoreChange(
                name=arguments.name,
                login=arguments.login,
                sweep_login=arguments.sweep_login,
                site=arguments.site,
                key=key,
                ceiling=arguments.ceiling,
                scrub_budget=arguments.scrub_budget,
            )
            return service.change_store(arguments.store, wanted)

        _show(with_accepted_key(attempt, arguments, address), arguments)


def scrub(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        return runs.started(
            service, service.scrub(arguments.store), arguments, {"scrub": _scrubbed}
        )


def _scrubbed(run: RunShown) -> str:
    result = run.told(ScrubResult)
    read = f"{result.objects} objects with {size(result.bytes)} were read and checked."
    if not result.damaged and not result.gaps:
        found = "Nothing is damaged."
    else:
        found = f"Faults: {result.damaged} found, {result.healed} healed."
    if result.passed_over:
        found += f" {result.passed_over} packs have their turn in a later scrub."
    if result.damaged_backups:
        backups = counted(result.damaged_backups, "backup").upper()
        found += f" {backups} CANNOT BE READ WHOLE: see `fennox store damage {run.store}`."
    if result.unknown_backups and result.brought_in:
        found += (
            f" {result.unknown_backups} backups were not in the catalogue; they are brought in."
        )
    elif result.unknown_backups:
        found += (
            f" {result.unknown_backups} backups are not in the catalogue: `fennox store adopt"
            f" {run.store}`."
        )
    return f"{read} {found}"


def damage(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.damage(arguments.store)
    show_list(
        found,
        [
            ("FOUND", lambda item: when(item.found)),
            ("OBJECT", lambda item: item.object),
            ("WHAT", lambda item: item.what),
            ("NEEDED BY", lambda item: _some(item.backups)),
            ("HEALED", lambda item: when(item.healed) if item.healed else "NO"),
            ("HOW", lambda item: item.how or "-"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="object",
        none="No damage was ever found in this store.",
    )


def _some(backups: list[str]) -> str:
    return first_few([backup[:12] for backup in backups], 2) or "-"


def browse(arguments: argparse.Namespace, environment: Environment) -> None:
    place = arguments.store
    with client(environment) as service:
        if "://" in place or "/" in place:
            address = place if "://" in place else os.path.abspath(place)

            def attempt(key: str | None) -> FolderShown:
                return service.look(Look(address=address, login=arguments.login, key=key))

            folder = with_accepted_key(attempt, arguments, address)
        else:
            folder = service.browse(place, arguments.path)
    if arguments.json:
        print(folder.model_dump_json(indent=2))
        return
    if not arguments.quiet:
        say(f"{folder.address}: {folder.landed}.")
        if folder.is_store:
            say("This is a store of Fennox.")
    if not folder.entries:
        say("The folder is empty.")
    rows: list[list[object]] = [
        [f"{entry.name}/" if entry.folder else entry.name, _size(entry)] for entry in folder.entries
    ]
    if rows:
        show_table(["NAME", "SIZE"], rows)


def _size(entry: EntryShown) -> str:
    return size(entry.size) if entry.size is not None else "-"


def remove(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        store = service.store(arguments.store)
        if not arguments.yes:
            say(
                f"{store.name} holds {store.backups} backups. They stay in {store.address}; Fennox"
                " forgets them."
            )
            if not can_ask():
                raise PersonNeeded("Nobody confirmed it.", "Give --yes.")
            if ask(f"Type {store.name} to forget it:") != store.name:
                raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
        forgotten = service.remove_store(store.name)
    say(f"{store.name} is forgotten. {forgotten.backups} of its backups were stored nowhere else.")
    say("`fennox store adopt` brings back what a store holds.")


def test(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        tested = service.test_store(arguments.store)
    if arguments.json:
        print(tested.model_dump_json(indent=2))
    elif not arguments.quiet:
        marks = {True: "passed", False: "FAILED"}
        show_table(
            ["", "", ""],
            [[marks[check.passed], check.title, check.detail] for check in tested.checks],
        )
        verdict = (
            "[green]The store can be used.[/green]"
            if tested.passed
            else "[bold red]Do not use it.[/bold red]"
        )
        out.print(verdict)
    return 0 if tested.passed else FAILED
