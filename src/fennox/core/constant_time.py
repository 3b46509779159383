"""Comparison whose duration does not reveal how much of two texts is equal."""

from __future__ import annotations

import hmac


def same(ours: str, theirs: str) -> bool:
    """``ours`` is ASCII, as digests and codes are. The library raises ``TypeError`` for a text that
    is not.
    """
    return theirs.isascii() and hmac.compare_digest(ours, theirs)
