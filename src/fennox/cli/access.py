"""Signing in and out, and secrets that are given."""

from __future__ import annotations

import argparse
import getpass
from pathlib import Path

from pydantic import SecretStr

from fennox import wire
from fennox.cli.main import Environment
from fennox.cli.output import can_ask, say, show_list, show_one, when
from fennox.cli.signedin import client, forget, remember
from fennox.client.api import Client
from fennox.core.errors import BadInput, PassphraseNeeded


def sign_in(arguments: argparse.Namespace, environment: Environment) -> None:
    password = first_line(arguments.password_file) if arguments.password_file else ask_secret("Password: ")
    with Client(arguments.address) as service:
        if arguments.setup_code:
            signed = service.first_user(arguments.setup_code, arguments.user, password)
        else:
            signed = service.sign_in(arguments.user, password)
    remember(environment, arguments.address, signed.token or "", signed.user)
    say(f"Signed in as {signed.user} ({signed.role}) until {signed.until:%Y-%m-%d}.")


def sign_out(_arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.sign_out()
    forget(environment)
    say("Signed out.")


def first_line(path: str) -> str:
    """The first line of a secret's file."""
    try:
        line = Path(path).read_text(encoding="utf-8").split("\n")[0].rstrip("\r")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{path} cannot be read ({type(error).__name__}).", "Check the file.") from error
    if not line:
        raise BadInput(f"The first line of {path} is empty.", "Write the secret on it.")
    return line


def passphrase(arguments: argparse.Namespace, *, twice: bool = False) -> str:
    if arguments.passphrase_file:
        return first_line(arguments.passphrase_file)
    given = ask_secret("Passphrase: ")
    if twice and ask_secret("Again: ") != given:
        raise BadInput("The two were not the same.", "Try again.")
    return given


def ask_secret(prompt: str) -> str:
    if not can_ask():
        raise PassphraseNeeded("A secret is needed, and there is no terminal to ask at.", "Give it in a file.")
    return getpass.getpass(prompt)


def add_user(arguments: argparse.Namespace, environment: Environment) -> None:
    password = first_line(arguments.password_file) if arguments.password_file else ask_secret("Password: ")
    wanted = wire.access.NewUser(name=arguments.name, role=arguments.role, password=SecretStr(password))
    with client(environment) as service:
        user = service.add_user(wanted)
    lines: list[tuple[str, object]] = [("user", user.name), ("role", user.role)]
    show_one(user, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


def list_users(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.users()
    show_list(
        found,
        [
            ("USER", lambda user: user.name),
            ("ROLE", lambda user: user.role),
            ("SINCE", lambda user: when(user.created)),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There is no user.",
    )


def remove_user(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.remove_user(arguments.name)
    say(f"The user {arguments.name} is removed, and signed out everywhere.")
