"""Stores, key sets and logins."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, SecretStr

from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

Custody = Literal["kept", "apart"]


class NewStore(Wanted):
    name: Noun
    address: str = Field(description="An absolute folder on the machine that runs the workers.", max_length=1024)
    passphrase: SecretStr | None = Field(
        default=None, description="Makes the key set with the first store; opens it for a further one."
    )
    key_set: Noun = "main"
    custody: Custody = Field(default="kept", description="For a new key set: who can open its backups.")
    plain_names: bool = True


class SlotShown(Shown):
    id: str
    label: str
    since: str


class StoreShown(Shown):
    id: str
    name: str
    address: str
    key_set: str
    custody: Custody
    suite: str
    generation: int
    plain_names: bool
    passphrases: list[SlotShown]
    created: Aware
    backups: int
    newest: Aware | None
    free: int | None
    total: int | None
    warnings: list[str]


class StoreCheck(Shown):
    """One line of a store's test."""

    title: str
    passed: bool
    detail: str


class StoreTest(Shown):
    passed: bool
    checks: list[StoreCheck]


class NewLogin(Wanted):
    name: Noun
    account: str = Field(min_length=1, max_length=256)
    password: SecretStr | None = Field(default=None, min_length=1, max_length=1024)
    private_key: SecretStr | None = Field(default=None, min_length=1, max_length=65536)


class LoginChange(Wanted):
    account: str | None = Field(default=None, min_length=1, max_length=256)
    password: SecretStr | None = Field(default=None, min_length=1, max_length=1024)
    private_key: SecretStr | None = Field(default=None, min_length=1, max_length=65536)


class LoginShown(Shown):
    id: str
    name: str
    account: str
    proves_by: Literal["key", "password"]
    changed: Aware
    used_by: int
