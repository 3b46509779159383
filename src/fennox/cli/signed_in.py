"""The client every verb uses. A sign-in is remembered in a file only its owner can read."""

from __future__ import annotations

import ipaddress
import json
import os
import sys

from fennox.cli.main import Environment
from fennox.client.api import Client
from fennox.client.calling import PersonPresent
from fennox.core import urls
from fennox.core.errors import MendSettings, NotSignedIn

_FILE = "sign-in.json"


def client(environment: Environment) -> Client:
    if environment.address and environment.token:
        must_be_safe(environment.address, plain=environment.plain)
        return Client(environment.address, environment.token, present())
    try:
        saved = json.loads((environment.folder / _FILE).read_text())
        address, token = environment.address or saved["address"], saved["token"]
    except FileNotFoundError:
        raise NotSignedIn(
            "You are not signed in.", "Run: fennox sign-in http://127.0.0.1:8420 --user NAME"
        ) from None
    except (ValueError, KeyError) as error:
        raise NotSignedIn(
            f"{environment.folder / _FILE} cannot be read.", "Sign in again."
        ) from error
    must_be_safe(address, plain=environment.plain or bool(saved.get("plain")))
    return Client(address, token, present())


def present() -> PersonPresent | None:
    """The person at the terminal, if there is one."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return None
    from fennox.cli.access import AtTerminal  # imported late: only commands that ask need it

    return AtTerminal()


def must_be_safe(address: str, *, plain: bool) -> None:
    """Raise if a token would travel in clear through a network."""
    parts = urls.split(address)
    if plain or parts.scheme != "http" or _is_here(parts.hostname or ""):
        return
    raise MendSettings(
        f"{address} is another machine, and http:// sends passwords and tokens there in clear.",
        "Use https://, or say --plain at sign-in (FENNOX_PLAIN=1) if the network between is yours"
        " alone.",
    )


def _is_here(host: str) -> bool:
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def saved_address(environment: Environment) -> str | None:
    """For the service of the last sign-in."""
    try:
        return environment.address or str(
            json.loads((environment.folder / _FILE).read_text())["address"]
        )
    except (OSError, ValueError, KeyError):
        return environment.address


def remember(environment: Environment, address: str, token: str, user: str, *, plain: bool) -> None:
    environment.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle = os.open(environment.folder / _FILE, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump({"address": address, "token": token, "user": user, "plain": plain}, file)


def forget(environment: Environment) -> None:
    (environment.folder / _FILE).unlink(missing_ok=True)
