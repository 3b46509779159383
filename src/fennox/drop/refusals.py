"""Why the receiving end refuses something, before a protocol says it in its own way."""

from __future__ import annotations

from typing import Literal

Why = Literal["exists", "missing", "busy", "full", "denied", "name"]


class PushRefused(Exception):
    """Says nothing that the client did not know: it may be anybody's."""

    def __init__(self, why: Why, said: str) -> None:
        super().__init__(said)
        self.why, self.said = why, said
