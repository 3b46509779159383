"""Concerns."""

from __future__ import annotations

from pydantic import Field

from fennox.core.facts.concerns import ConcernNoun, Severity
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted


class Concern(Shown):
    """A present or coming problem; it ends by itself when it no longer holds."""

    id: str
    severity: Severity
    noun: ConcernNoun
    about: str
    text: str
    means: str
    remedy: str
    since: Aware | None
    ended: Aware | None = None
    muted_until: Aware | None = None
    muted_because: str = ""
    muted_by: str = ""


class Matter(Shown):
    """Concerns of one cause, as one sentence. A system may have several."""

    severity: Severity
    text: str
    means: str
    remedy: str
    since: Aware
    in_all: int = Field(description="How many concerns it is.")
    about: list[str] = Field(description="What they are about; of many only the first.")
    concerns: list[str] = Field(description="Ids of concerns; of many only the first.")


class MuteWanted(Wanted):
    """Mutes a concern for a while. It stays in the list, and alerts resume by themselves."""

    until: Aware
    reason: str = Field(min_length=1, max_length=500)
