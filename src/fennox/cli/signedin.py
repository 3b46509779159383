"""The client every verb uses. A sign-in is remembered in a file only its owner can read."""

from __future__ import annotations

import json
import os

from fennox.cli.main import Environment
from fennox.client.api import Client
from fennox.core.errors import NotSignedIn

_FILE = "sign-in.json"


def client(environment: Environment) -> Client:
    if environment.address and environment.token:
        return Client(environment.address, environment.token)
    try:
        saved = json.loads((environment.folder / _FILE).read_text())
        return Client(environment.address or saved["address"], saved["token"])
    except FileNotFoundError:
        raise NotSignedIn("You are not signed in.", "Run: fennox sign-in http://127.0.0.1:8420 --user NAME") from None
    except (ValueError, KeyError) as error:
        raise NotSignedIn(f"{environment.folder / _FILE} cannot be read.", "Sign in again.") from error


def remember(environment: Environment, address: str, token: str, user: str) -> None:
    environment.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle = os.open(environment.folder / _FILE, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump({"address": address, "token": token, "user": user}, file)


def forget(environment: Environment) -> None:
    (environment.folder / _FILE).unlink(missing_ok=True)
