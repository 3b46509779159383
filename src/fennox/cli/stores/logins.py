"""Logins, and the places where they belong."""

from __future__ import annotations

import argparse
from pathlib import Path

from pydantic import SecretStr

from fennox.cli import access
from fennox.cli.access import first_line
from fennox.cli.host_keys import with_accepted_key
from fennox.cli.main import Environment
from fennox.cli.output import say, show_list, show_one, when
from fennox.cli.signed_in import client
from fennox.core.errors import BadInput
from fennox.wire.stores import (
    LoginChange,
    LoginShown,
    NewLogin,
    NewLoginPlace,
)


def add_login(arguments: argparse.Namespace, environment: Environment) -> None:
    key, password = _secret(arguments)
    if key is None and password is None and not arguments.agent and not arguments.here:
        password = SecretStr(access.ask_secret("Password: "))
    with client(environment) as service:
        login = service.add_login(
            NewLogin(
                name=arguments.name,
                account=arguments.account,
                password=password,
                private_key=key,
                certificate=_certificate(arguments) or "",
                agent=arguments.agent,
                here=arguments.here,
                become=arguments.become or "",
            )
        )
    _show_login(login, arguments)


def set_login(arguments: argparse.Namespace, environment: Environment) -> None:
    key, password = _secret(arguments)
    with client(environment) as service:
        wanted = LoginChange(
            account=arguments.account,
            password=password,
            private_key=key,
            certificate=_certificate(arguments),
            agent=arguments.agent,
            here=arguments.here,
            become=arguments.become,
        )
        _show_login(service.change_login(arguments.name, wanted), arguments)


def admit_login(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:

        def attempt(key: str | None) -> LoginShown:
            wanted = NewLoginPlace(address=arguments.at, key=key, site=arguments.site)
            return service.admit_login(arguments.name, wanted)

        _show_login(with_accepted_key(attempt, arguments, arguments.at), arguments)


def revoke_login(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.revoke_login(arguments.name, arguments.at)
    say(
        f"The login {arguments.name} is not used at {arguments.at} any more, except for systems"
        " that have it."
    )


def text_of(file: str) -> str:
    try:
        return Path(file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"{file} cannot be read ({type(error).__name__}).", "Check the file."
        ) from error


def _certificate(arguments: argparse.Namespace) -> str | None:
    return text_of(arguments.certificate) if arguments.certificate else None


def _secret(arguments: argparse.Namespace) -> tuple[SecretStr | None, SecretStr | None]:
    if arguments.key:
        return SecretStr(text_of(arguments.key)), None
    return None, SecretStr(first_line(arguments.password_file)) if arguments.password_file else None


def _show_login(login: LoginShown, arguments: argparse.Namespace) -> None:
    show_one(
        login,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        lines=[
            ("login", login.name),
            ("account", login.account),
            ("proves by", _proves_by(login)),
            ("becomes", login.become or "nobody else"),
            *[
                ("admitted", f"{place.address} with {place.key}, by {place.by}")
                for place in login.places
            ],
        ],
    )


def _proves_by(login: LoginShown) -> str:
    return f"{login.proves_by} with certificate" if login.certificate else login.proves_by


def list_logins(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.logins()
    show_list(
        found,
        [
            ("LOGIN", lambda login: login.name),
            ("ACCOUNT", lambda login: login.account),
            ("PROVES BY", _proves_by),
            ("BECOMES", lambda login: login.become or "-"),
            ("CHANGED", lambda login: when(login.changed)),
            ("USED BY", lambda login: login.used_by),
            (
                "ADMITTED AT",
                lambda login: ", ".join(sorted({place.address for place in login.places})) or "-",
            ),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none=(
            "There are no logins yet. Add one with `fennox login add NAME --account ACCOUNT --key"
            " FILE`."
        ),
    )


def remove_login(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.remove_login(arguments.name)
    say(f"The login {arguments.name} is removed.")
