"""Systems as they are known."""

from __future__ import annotations

from pydantic import Field

from fennox.core.format.manifest import Finding, Machine
from fennox.core.time import Aware
from fennox.wire.base import Shown


class SystemName(Shown):
    id: str
    name: str
    kind: str
    site: str


class RunBrief(Shown):
    id: str
    kind: str
    state: str
    at: Aware


class SystemShown(Shown):
    id: str
    name: str
    kind: str
    address: str
    login: str | None
    key: str
    site: str
    labels: list[str]
    settings: dict[str, str]
    spare: bool = Field(description="It is there to practise on, and no part of the estate.")
    machine: Machine | None
    created: Aware
    newest_good: Aware | None
    newest_backup: str | None
    backups: int
    stores: list[str]
    routines: list[str]
    next_run: Aware | None
    missing: list[Finding]
    needs: list[str]
    via: str | None
    patience: int = Field(description="Seconds that a connection may take.")
    key_until: Aware | None
    suspended_because: str
    left_open: list[str]  # what takes did around them and did not undo
    looked: Aware | None  # of the last look between takes
    differs: str  # how it differed then from its last backup, in words; empty: it did not
    differs_since: Aware | None
    retired: Aware | None  # since when it is no more
    retired_because: str
    let_go: bool  # whether a retired one's backups may go by their ladders
    last_run: RunBrief | None
    active_run: RunBrief | None
