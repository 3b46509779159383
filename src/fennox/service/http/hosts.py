"""By which names the service answers.

A page of somebody else can have its own name lead to this machine after it was loaded (DNS
rebinding), and then speaks to us as if it were our console. A number cannot be made to lead
elsewhere, so that numbers are always accepted.
"""

from __future__ import annotations

import ipaddress
from urllib.parse import urlsplit

from fennox.core.errors import NotAllowed
from fennox.core.names import printable
from fennox.service.foundation.settings import Settings


def is_ours(host: str, settings: Settings) -> bool:
    """Whether a request with this ``Host`` header was meant for us."""
    try:
        name = urlsplit(f"//{host}").hostname or ""
    except ValueError:
        return False
    return name in ("localhost", settings.host, urlsplit(settings.url).hostname) or _is_number(name)


def _is_number(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


def refusal(host: str) -> NotAllowed:
    return NotAllowed(
        f"This service is not reached by the name {printable(host)[:80]}.",
        "Set public_address (FENNOX_PUBLIC_ADDRESS) to the address by which people reach it.",
    )
