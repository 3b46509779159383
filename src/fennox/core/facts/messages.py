"""What a message to people and programs says, as facts; its words are rendered when it is sent."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import BaseModel, ConfigDict


class _Fact(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class ConcernTold(_Fact):
    id: str
    about: str
    text: str
    means: str
    remedy: str
    since: datetime


class AuditTold(_Fact):
    """An entry of the audit log. ``place``: its number; ``digest``: the chain's end."""

    place: int | None
    at: datetime
    by: str
    action: str
    noun: str
    name: str
    details: dict[str, str]
    address: str
    digest: str | None


class MessageFacts(_Fact):
    """``concerns``: the first of ``count``; ``text``: a sentence for all of them."""

    severity: Literal["high", "low"] = "low"
    count: int = 0
    text: str = ""
    concerns: list[ConcernTold] = []
    entry: AuditTold | None = None


class RouteSettings(_Fact):
    """Of an e-mail route: to whom, from whom, and the account at the mail server; "": none."""

    to: list[str] = []
    sender: str = ""
    account: str = ""
