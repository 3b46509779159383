"""Signing in and out, proving again who one is, and reading secrets."""

from __future__ import annotations

import argparse
import getpass
from pathlib import Path

from fennox.cli import provider
from fennox.cli.main import Environment
from fennox.cli.output import can_ask, say
from fennox.cli.signed_in import client, forget, must_be_safe, remember
from fennox.client.api import Client, ProblemError
from fennox.core.errors import BadInput, PassphraseNeeded
from fennox.wire.access import SignedIn
from fennox.wire.base import Problem


def sign_in(arguments: argparse.Namespace, environment: Environment) -> None:
    if arguments.again:
        prove_again(arguments, environment)
        return
    if not arguments.address or not (arguments.user or arguments.provider):
        raise BadInput(
            "The address and the user are missing.", "Run: fennox sign-in ADDRESS --user NAME"
        )
    plain = arguments.plain or environment.plain
    must_be_safe(arguments.address, plain=plain)
    if arguments.provider:
        with Client(arguments.address) as service:
            signed = provider.sign_in(service, fresh=True, browser=not arguments.no_browser)
        remember(environment, arguments.address, signed.token or "", signed.user, plain=plain)
        _welcome(signed)
        return
    password = (
        first_line(arguments.password_file) if arguments.password_file else ask_secret("Password: ")
    )
    with Client(arguments.address) as service:
        if arguments.setup_code:
            signed = service.first_user(arguments.setup_code, arguments.user, password)
        else:
            signed = _with_code(service, arguments, password)
    remember(environment, arguments.address, signed.token or "", signed.user, plain=plain)
    if signed.must_change:
        signed = _first_change(environment, password)
    _welcome(signed)


def _welcome(signed: SignedIn) -> None:
    reach = "" if signed.scope is None else f", reaching {_scope(signed)}"
    say(f"Signed in as {signed.user} ({signed.role}{reach}) until {signed.until:%Y-%m-%d}.")


def _with_code(service: Client, arguments: argparse.Namespace, password: str) -> SignedIn:
    code = first_line(arguments.code_file) if arguments.code_file else None
    try:
        return service.sign_in(arguments.user, password, code)
    except ProblemError as problem:
        if problem.slug != "second-factor-needed" or not can_ask():
            raise
    return service.sign_in(arguments.user, password, AtTerminal().code())


def _first_change(environment: Environment, old: str) -> SignedIn:
    """Somebody else set the password and knows it, so it must be changed."""
    if not can_ask():
        raise BadInput(
            "Your password was set by somebody else; change it first.", "Run: fennox user password"
        )
    say("Your password was set by somebody else. Choose your own now.")
    with client(environment) as service:
        return service.change_password(old, ask_twice("New password: "))


def _scope(signed: SignedIn) -> str:
    return " and ".join(f"({' or '.join(selectors)})" for selectors in signed.scope or [])


def prove_again(arguments: argparse.Namespace, environment: Environment) -> None:
    """A fresh proof, for the grave acts of the next minutes."""
    with client(environment) as service:
        if "password" not in service.who_am_i().factors:
            raise BadInput(
                "Your identity provider vouches for you.", "Run: fennox sign-in ADDRESS --provider"
            )
        password = (
            first_line(arguments.password_file)
            if arguments.password_file
            else ask_secret("Password: ")
        )
        signed = service.prove(password)
    say(f"You have proved that you are {signed.user}; this counts for ten minutes.")


def sign_out(_arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.sign_out()
    forget(environment)
    say("Signed out.")


def change_password(arguments: argparse.Namespace, environment: Environment) -> None:
    old = first_line(arguments.old_file) if arguments.old_file else ask_secret("Password now: ")
    new = first_line(arguments.new_file) if arguments.new_file else ask_twice("New password: ")
    with client(environment) as service:
        service.change_password(old, new)
    say(
        "Your password is changed. You are signed out everywhere else; tokens of programs stay"
        " valid."
    )


class AtTerminal:
    """Asks the person who sits there (:class:`fennox.client.calling.Present`)."""

    def password(self) -> str:
        say("This is a grave act: prove that it is you.")
        return ask_secret("Password: ")

    def code(self) -> str:
        return ask_secret("Code of your authenticator, or a recovery code: ")

    def wait_for_approval(self, problem: Problem) -> None:
        approval = str((problem.model_extra or {}).get("approval", ""))[:12]
        say(f"A second person must approve this: fennox approval show {approval}")
        say("Waiting. Ctrl C leaves it waiting for them; give the same command again later.")


def first_line(path: str) -> str:
    """The first line of a secret's file."""
    try:
        line = Path(path).read_text(encoding="utf-8").split("\n")[0].rstrip("\r")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"{path} cannot be read ({type(error).__name__}).", "Check the file."
        ) from error
    if not line:
        raise BadInput(f"The first line of {path} is empty.", "Write the secret on it.")
    return line


def passphrase(arguments: argparse.Namespace, *, twice: bool = False) -> str:
    if arguments.passphrase_file:
        return first_line(arguments.passphrase_file)
    return ask_twice("Passphrase: ") if twice else ask_secret("Passphrase: ")


def ask_twice(prompt: str) -> str:
    given = ask_secret(prompt)
    if ask_secret("Again: ") != given:
        raise BadInput("The two entries differ.", "Try again.")
    return given


def ask_secret(prompt: str) -> str:
    if not can_ask():
        raise PassphraseNeeded(
            "A secret is needed, and there is no terminal to ask at.", "Give it in a file."
        )
    return getpass.getpass(prompt)
