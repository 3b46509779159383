"""Comparing backups."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field, SecretStr, model_validator

from fennox.core.compare.model import Comparison, DocumentChange
from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted


class CompareWanted(Wanted):
    """Either two backups, or a system: then its changes since a time, or since the backup before
    the newest. ``live``: compares a backup (``before``) or the system's newest with the live
    system.
    """

    before: str | None = Field(default=None, max_length=64)
    after: str | None = Field(default=None, max_length=64)
    system: Noun | None = None
    since: Aware | None = None
    live: bool = False
    only: list[Annotated[str, Field(min_length=1, max_length=4096)]] = Field(
        default=["*"],
        min_length=1,
        max_length=100,
        description="Patterns with `*` of the documents to compare.",
    )
    passphrase: SecretStr | None = Field(
        default=None, description="Opens the stores in custody apart."
    )

    @model_validator(mode="after")
    def one_way(self) -> CompareWanted:
        if (self.before is None) == (self.system is None):
            raise ValueError("give either before or system")
        if (self.before is not None and not self.live) != (self.after is not None):
            raise ValueError("give before and after, or before and live")
        if self.since is not None and self.system is None:
            raise ValueError("since goes with system")
        return self


class ComparedBackup(Shown):
    """``id`` is empty for the live system."""

    id: str
    system: str
    name: str
    time: Aware


class Compared(Shown):
    """Changes from ``before`` to ``after``. Secret values are masked."""

    before: ComparedBackup
    after: ComparedBackup
    comparison: Comparison


class TraceWanted(Wanted):
    """A document by its path, or values in it (a JSONPath, RFC 9535; lines with a text), or a
    census list by name.
    """

    system: Noun
    document: str = Field(default="", max_length=4096)
    jsonpath: str = Field(default="", max_length=1000)
    line: str = Field(default="", max_length=1000)
    list: str = Field(default="", max_length=200)
    passphrase: SecretStr | None = Field(
        default=None, description="Opens the stores in custody apart."
    )


class StandingShown(Shown):
    """One state, in one or more consecutive backups. ``change``: how a whole document changed to
    it.
    """

    first: ComparedBackup
    last: ComparedBackup
    there: bool
    values: list[Any]
    said: str
    change: DocumentChange | None


class Traced(Shown):
    """States, newest first. ``unread``: backups that could not be read, and why."""

    system: str
    looked_at: int
    unread: list[str]
    standings: list[StandingShown]
