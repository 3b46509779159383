"""One thing that is wrong, as those who look find it."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from hashlib import blake2b

from fennox.wire.concerns import ConcernNoun, Severity


@dataclass(frozen=True)
class Found:
    """One thing that is wrong. ``cause``: what it comes from, if it is more than this one; they are told as one."""

    code: str
    severity: Severity
    noun: ConcernNoun
    about: str
    text: str
    remedy: str
    means: str = ""
    since: datetime | None = None
    cause: str = ""

    @property
    def key(self) -> str:
        return blake2b(f"{self.code}|{self.noun}|{self.about}".encode(), digest_size=6).hexdigest()


SITE_CAUSE = "site|"


@dataclass(frozen=True)
class Away:
    """What cannot be reached, and takes other things with it: stores by id with their names, and sites."""

    stores: dict[str, str] = field(default_factory=dict)
    sites: set[str] = field(default_factory=set)

    def cause(self, store: str | None, site: str) -> str:
        """Of something that a system at ``site`` or a store suffers from; empty: neither is away."""
        if site in self.sites:
            return SITE_CAUSE + site
        return f"store|{self.stores[store]}" if store in self.stores else ""
