"""Alert routes."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, SecretStr

from fennox.core.facts.concerns import Severity
from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

Channel = Literal["email", "webhook", "syslog", "file"]


class NewAlertRoute(Wanted):
    """Who is alerted. ``address`` by channel: smtp://host:port (smtps, or smtp+starttls), a URL,
    syslog+udp://host:port (tcp, tls), or the path of a file on the service's machine.
    """

    name: Noun
    channel: Channel
    address: str = Field(min_length=1, max_length=1024)
    to: list[Annotated[str, Field(max_length=320)]] = Field(
        default=[], max_length=50, description="E-mail addresses."
    )
    sender: str = Field(default="", max_length=320, description="The e-mail address it comes from.")
    account: str = Field(
        default="", max_length=256, description="For the e-mail server, if it wants one."
    )
    secret: SecretStr | None = Field(
        default=None,
        min_length=1,
        max_length=1024,
        description="E-mail password, or what signs webhooks.",
    )
    severity: Severity = Field(default="high", description="`low` sends everything.")
    systems: str = Field(
        default="all", description="`all`, or terms like `site=holm label=web`.", max_length=500
    )
    digest: str = Field(
        default="",
        description="A phrase like `every day at 07:00`; empty: at once.",
        max_length=200,
    )
    audit: bool = Field(
        default=False, description="Tell each entry of the audit as well, as it happens."
    )


class AlertRouteShown(Shown):
    id: str
    name: str
    channel: Channel
    address: str = Field(
        description="Where it is; the rest of an address may hold a token and is not shown."
    )
    to: list[str]
    audit: bool
    severity: Severity
    systems: str
    digest: str
    mode: Literal["on", "off"]
    created: Aware
    waiting: int
    last_sent: Aware | None
    last_error: str


class AlertRouteChange(Wanted):
    severity: Severity | None = None
    systems: str | None = Field(default=None, max_length=500)
    digest: str | None = Field(default=None, max_length=200)
    audit: bool | None = None
    mode: Literal["on", "off"] | None = None


class AlertTested(Shown):
    sent: bool
    problem: str
    remedy: str
