"""Addresses of the form ``scheme://host:port/path`` (RFC 3986), as people give them."""

from __future__ import annotations

from urllib.parse import SplitResult, urlsplit

from fennox.core.errors import BadInput


def split(text: str, *, field: str = "address") -> SplitResult:
    """Take one apart, or raise ``BadInput``: the library raises ``ValueError``, at once or when
    asked for a port.
    """
    try:
        parts = urlsplit(text)
        _ = parts.port
    except ValueError as error:
        # the input is not repeated: webhook addresses contain tokens
        remedy = "Write scheme://host:port, like https://host:8420; an IPv6 address in brackets."
        raise BadInput(
            "This is no address that can be taken apart.", remedy, field=field
        ) from error
    return parts
