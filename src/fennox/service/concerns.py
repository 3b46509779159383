"""One thing that is wrong, as those who look find it."""

from __future__ import annotations

from dataclasses import dataclass
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
