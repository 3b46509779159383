"""One thing that is wrong, as those who look find it. Pure."""

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
    """One thing that is wrong. ``code``, ``noun``, ``about`` and ``subject`` say which it is.

    ``subject``: which of several of a code, as a document. ``cause``: what it comes from, if that
    is more than this one; they are told as one.

    ``together``: what is said of all of one cause, with ``{these}`` in place of their names; empty:
    the first's text.
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
        """Short, as it is part of an index; a cause may hold the reason of a failure."""
        if len(self.cause) > _SHORT:
            return blake2b(self.cause.encode(), digest_size=16).hexdigest()
        return self.cause or self.key

    @property
    def key(self) -> str:
        """By what it is, never by its words: rewording them ends no concern and no mute."""
        what = f"{self.code}|{self.subject}" if self.subject else self.code
        return blake2b(f"{what}|{self.noun}|{self.about}".encode(), digest_size=6).hexdigest()


SITE_CAUSE = "site|"


@dataclass(frozen=True)
class Away:
    """What cannot be reached, and takes other things with it: stores by id with their names, and
    sites.
    """

    stores: dict[str, str] = field(default_factory=dict)
    sites: set[str] = field(default_factory=set)

    def cause(self, store: str | None, site: str) -> str:
        """Of something that a system at ``site`` or a store suffers from; empty: neither is
        away.
        """
        if site in self.sites:
            return SITE_CAUSE + site
        return f"store|{self.stores[store]}" if store in self.stores else ""
