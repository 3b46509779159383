"""One thing that is wrong, as found by a check. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from hashlib import blake2b
from typing import Literal

Severity = Literal["high", "low"]
ConcernNoun = Literal["system", "store", "routine", "service"]
_SHORT = 200  # characters


@dataclass(frozen=True)
class ConcernFound:
    """One thing that is wrong. ``code``, ``noun``, ``about`` and ``subject`` identify it.
    ``subject``: distinguishes several of one code, such as a document. ``cause``: shared by
    concerns that are reported as one. ``together``: the sentence for all concerns of a cause, where
    ``{these}`` stands for their names; empty: the first one's text.
    """

    code: str
    severity: Severity
    noun: ConcernNoun
    about: str
    text: str
    remedy: str
    means: str = ""
    since: datetime | None = None
    cause: str = ""
    together: str = ""
    subject: str = ""

    @property
    def told_with(self) -> str:
        """Kept short because it is part of an index; a cause may contain an error text."""
        if len(self.cause) > _SHORT:
            return blake2b(self.cause.encode(), digest_size=16).hexdigest()
        return self.cause or self.key

    @property
    def key(self) -> str:
        """Its identity, independent of its words: rewording ends no concern and no mute."""
        what = f"{self.code}|{self.subject}" if self.subject else self.code
        return blake2b(f"{what}|{self.noun}|{self.about}".encode(), digest_size=6).hexdigest()


SITE_CAUSE = "site|"


@dataclass(frozen=True)
class Away:
    """Unreachable things that affect others: stores (id → name) and sites."""

    stores: dict[str, str] = field(default_factory=dict)
    sites: set[str] = field(default_factory=set)

    def cause(self, store: str | None, site: str) -> str:
        """The cause of a problem of a system at ``site`` or of a store; empty: neither is away."""
        if site in self.sites:
            return SITE_CAUSE + site
        return f"store|{self.stores[store]}" if store in self.stores else ""
