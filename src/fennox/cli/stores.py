"""Stores and logins."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from pydantic import SecretStr

from fennox.cli import access
from fennox.cli.access import client, first_line
from fennox.cli.main import FAILED, Environment
from fennox.cli.output import out, say, show_list, show_one, show_table, size, when
from fennox.core.errors import BadInput
from fennox.wire.stores import LoginChange, LoginShown, NewLogin, NewStore, StoreShown


def add(arguments: argparse.Namespace, environment: Environment) -> None:
    address = os.path.abspath(arguments.address)
    with client(environment) as service:
        known = {store.key_set: store.custody for store in service.stores()}
        needs = arguments.passphrase_file or known.get(arguments.key_set) != "kept"
        phrase = access.passphrase(arguments, twice=arguments.key_set not in known) if needs else None
        store = service.add_store(
            NewStore(
                name=arguments.name,
                address=address,
                passphrase=SecretStr(phrase) if phrase else None,
                key_set=arguments.key_set,
                custody=arguments.custody,
                plain_names=arguments.plain_names == "yes",
            )
        )
    _show(store, arguments)
    if not arguments.json and not arguments.quiet:
        say("Keep the passphrase where it is found when this machine is gone. Nobody can open the backups without it.")


def _show(store: StoreShown, arguments: argparse.Namespace) -> None:
    custody = "kept: the service can open it" if store.custody == "kept" else "apart: only the passphrase opens it"
    room = f"{size(store.free)} free of {size(store.total or 0)}" if store.free is not None else "not told"
    show_one(
        store,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        lines=[
            ("store", store.name),
            ("address", store.address),
            ("key set", f"{store.key_set}, generation {store.generation}"),
            ("custody", custody),
            *[("passphrase", f"{slot.label}, since {slot.since}") for slot in store.passphrases],
            ("backups", store.backups),
            ("newest", when(store.newest)),
            ("room", room),
            *[("warning", text) for text in store.warnings],
        ],
    )


def list_stores(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.stores()
    show_list(
        found,
        [
            ("STORE", lambda store: store.name),
            ("ADDRESS", lambda store: store.address),
            ("CUSTODY", lambda store: store.custody),
            ("BACKUPS", lambda store: store.backups),
            ("NEWEST", lambda store: when(store.newest)),
            ("FREE", lambda store: size(store.free) if store.free is not None else "not told"),
            ("WARNINGS", lambda store: len(store.warnings) or "-"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There is no store yet. Add one with `fennox store add NAME FOLDER`.",
    )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service.store(arguments.store), arguments)


def test(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        tested = service.test_store(arguments.store)
    if arguments.json:
        print(tested.model_dump_json(indent=2))
    elif not arguments.quiet:
        marks = {True: "passed", False: "FAILED"}
        show_table(["", "", ""], [[marks[check.passed], check.title, check.detail] for check in tested.checks])
        verdict = "[green]The store can be used.[/green]" if tested.passed else "[bold red]Do not use it.[/bold red]"
        out.print(verdict)
    return 0 if tested.passed else FAILED


def add_login(arguments: argparse.Namespace, environment: Environment) -> None:
    key, password = _secret(arguments)
    if key is None and password is None:
        password = SecretStr(access.ask_secret("Password: "))
    with client(environment) as service:
        login = service.add_login(
            NewLogin(name=arguments.name, account=arguments.account, password=password, private_key=key)
        )
    _show_login(login, arguments)


def set_login(arguments: argparse.Namespace, environment: Environment) -> None:
    key, password = _secret(arguments)
    with client(environment) as service:
        wanted = LoginChange(account=arguments.account, password=password, private_key=key)
        _show_login(service.change_login(arguments.name, wanted), arguments)


def _secret(arguments: argparse.Namespace) -> tuple[SecretStr | None, SecretStr | None]:
    if arguments.key:
        try:
            return SecretStr(Path(arguments.key).read_text(encoding="utf-8")), None
        except (OSError, UnicodeDecodeError) as error:
            raise BadInput(f"{arguments.key} cannot be read ({type(error).__name__}).", "Check the file.") from error
    return None, SecretStr(first_line(arguments.password_file)) if arguments.password_file else None


def _show_login(login: LoginShown, arguments: argparse.Namespace) -> None:
    show_one(
        login,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        lines=[("login", login.name), ("account", login.account), ("proves by", login.proves_by)],
    )


def list_logins(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.logins()
    show_list(
        found,
        [
            ("LOGIN", lambda login: login.name),
            ("ACCOUNT", lambda login: login.account),
            ("PROVES BY", lambda login: login.proves_by),
            ("CHANGED", lambda login: when(login.changed)),
            ("SYSTEMS", lambda login: login.used_by),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There is no login yet. Add one with `fennox login add NAME --account ACCOUNT --key FILE`.",
    )


def remove_login(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.remove_login(arguments.name)
    say(f"The login {arguments.name} is removed.")
