"""Signing in, users and tokens."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, SecretStr

from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

Role = Literal["reader", "operator", "administrator"]


class SignIn(Wanted):
    user: str = Field(max_length=256)
    password: SecretStr = Field(max_length=1024)
    token: bool = Field(default=False, description="Answer with a token for a client instead of a cookie.")


class SignedIn(Shown):
    user: str
    role: Role
    until: Aware
    token: str | None = None


class FirstUser(Wanted):
    """The first administrator, made with the one-time code from the log."""

    code: SecretStr
    user: Noun
    password: SecretStr


class NewUser(Wanted):
    name: Noun
    role: Role
    password: SecretStr


class UserShown(Shown):
    id: str
    name: str
    role: Role
    created: Aware


class AuditEntry(Shown):
    id: int
    at: Aware
    by: str
    action: str
    noun: str
    name: str
    details: dict[str, str]
