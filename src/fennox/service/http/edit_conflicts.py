"""ETag and If-Match (RFC 9110, section 13): two people do not overwrite each other's changes."""

from __future__ import annotations

from fennox.core.errors import Conflict


def etag(version: int) -> str:
    return f'"{version}"'


def check_match(if_match: str | None, version: int) -> None:
    """Raises Conflict if the caller saw another version than the one that is there."""
    if if_match is not None and if_match.strip('"') not in ("*", str(version)):
        raise Conflict(
            "Somebody else changed it in the meantime.", "Reload it, then repeat the change."
        )
