"""Host names the service accepts. After loading, a foreign page can point its own name at this
machine (DNS rebinding) and then talk to us like our console. An IP address cannot be redirected, so
IP addresses are always accepted.
"""

from __future__ import annotations

import ipaddress
from urllib.parse import urlsplit

from fennox.core.errors import NotAllowed
from fennox.core.names import printable
from fennox.service.foundation.settings import Settings


def is_ours(host: str, settings: Settings) -> bool:
    """Whether a request with this ``Host`` header is for us."""
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
