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
    left_open: list[str]  # actions around takes that were not undone
    looked: Aware | None  # time of the last look
    differs: str  # how it differed from its last backup, as text; empty: it did not
    differs_since: Aware | None
    retired: Aware | None  # when it was retired
    retired_because: str
    let_go: bool  # whether a retired system's backups may be removed by their ladders
    last_run: RunBrief | None
    active_run: RunBrief | None
