"""Comparison whose duration does not reveal how much of two texts is equal."""

from __future__ import annotations

import hmac


def same(ours: str, theirs: str) -> bool:
    """``ours`` is ASCII, such as a digest or code. The library raises ``TypeError`` for other
    text.
    """
    return theirs.isascii() and hmac.compare_digest(ours, theirs)
