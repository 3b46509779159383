"""Workers at sites: admission, and their messages over a WebSocket (RFC 6455). The worker connects
to ``/api/v1/sites/worker`` and identifies itself (:class:`Hello`). For each requested connection
(:class:`Reach`) it connects to the host and to ``/api/v1/sites/streams/{stream}``, and relays bytes
both ways as binary messages; or it refuses with a reason (:class:`Refused`).

What systems push to the worker it carries to the service's receiving end, each connection through
``/api/v1/sites/drop?peer=ADDRESS``, where ``peer`` is who connected; by FTP with TLS also
``protocol=ftps``, and for a data connection ``port``, the one of the worker's that it came to.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

HERE = "here"
"""The host of a machine that is read by the site's worker itself, which runs on it."""

REVOKED = 4001
"""Closing code: the token counts no more."""
REPLACED = 4002
"""Closing code: another worker of the same site has come."""

TRY_AGAIN = 1013
"""Closing code (RFC 6455, registered with IANA): the receiving end does not listen now."""

SiteName = Annotated[
    str, Field(min_length=1, max_length=64, pattern=r"^[A-Za-z0-9][A-Za-z0-9._ -]*$")
]


class NewSite(Wanted):
    """Admit a worker of a site; with ``anew`` its token is replaced."""

    name: SiteName
    anew: bool = False


class SiteAdmitted(Shown):
    """The token is shown only once."""

    name: str
    token: str = Field(repr=False)


class SiteShown(Shown):
    """``systems``: number reached through it. ``key``: host key of the worker's own machine, for
    systems at ``here``.
    """

    name: str
    admitted: Aware
    by: str
    connected: bool
    seen: Aware | None
    machine: str
    version: str
    key: str
    skew: float
    systems: int
    drop: str = Field(
        description="host:port to which the site's systems push by SFTP, through the worker; empty:"
        " to the receiving end itself."
    )
    drop_ftps: str = Field(description="As ``drop``, by FTP with TLS.")


class Hello(Wanted):
    version: str = Field(max_length=64)
    machine: str = Field(max_length=256)
    key: str = Field(max_length=128)
    clock: Aware
    drop: str = Field(
        default="",
        max_length=300,
        description="host:port at which it takes pushes by SFTP; left out: it takes none.",
    )
    drop_ftps: str = Field(default="", max_length=300, description="As ``drop``, by FTP with TLS.")
    drop_passive: str = Field(
        default="",
        pattern=r"^(\d{1,5}-\d{1,5})?$",
        description="Ports at which it takes data connections of FTP, FIRST-LAST.",
    )


class Reach(Shown):
    """Make a connection to ``host``, or to the worker's own machine (``here``)."""

    stream: str
    host: str
    port: int


class Refused(Wanted):
    stream: str = Field(max_length=64)
    reason: str = Field(max_length=300)
