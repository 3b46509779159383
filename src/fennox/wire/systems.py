"""Systems, kinds and backups."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, SecretStr

from fennox.core.format.manifest import Finding, Machine
from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted


class NewSystem(Wanted):
    name: Noun
    kind: Noun
    address: str = Field(description="Host and port, as `host:port`; the kind's port if left out.", max_length=300)
    login: Noun
    key: str | None = Field(default=None, description="The accepted fingerprint of host key or certificate.")
    settings: dict[str, str] = {}
    site: str = ""
    labels: list[Noun] = []


class SystemChange(Wanted):
    address: str | None = None
    login: Noun | None = None
    key: str | None = None
    settings: dict[str, str] | None = None
    site: str | None = None
    labels: list[Noun] | None = None


class Confirmed(Wanted):
    """Says that the machine that answers now is this system: it was reinstalled or replaced."""

    machine: str


class PartShown(Shown):
    name: str
    title: str
    essential: bool
    default: bool
    uses: list[Literal["rebuild", "load"]]
    overwrites: str


class KindShown(Shown):
    name: str
    version: int
    title: str
    about: str
    reach: Literal["ssh", "https", "service"]
    port: int
    settings: dict[str, str]
    parts: list[PartShown]
    census: list[str]
    left_out: list[str]
    steps: list[str]


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
    machine: Machine | None
    created: Aware
    newest_good: Aware | None
    newest_backup: str | None
    backups: int
    stores: list[str]
    routines: list[str]
    next_run: Aware | None
    missing: list[Finding]
    last_run: RunBrief | None
    active_run: RunBrief | None


class Probe(Shown):
    """What a live system says it is, and how its face compares with the one known."""

    reached: bool
    fingerprint: str
    fingerprint_known: bool
    machine: Machine | None
    same_machine: bool | None
    parts: list[PartShown]
    problem: str | None = None
    remedy: str | None = None


class NewTake(Wanted):
    system: Noun
    store: Noun | None = Field(default=None, description="May be left out where there is only one store.")
    name: Annotated[str, Field(max_length=48)] = ""
    note: Annotated[str, Field(max_length=500)] = ""
    parts: list[Noun] | None = None


class PartHeld(Shown):
    name: str
    documents: int
    bytes: int


class CopyWanted(Wanted):
    store: Noun


class CopyShown(Shown):
    """One place that holds a backup. ``damaged`` says why it cannot be read whole there; empty if nothing is known.

    ``untold``: facts about the backup, such as a hold, that the store could not be told yet.
    """

    store: str
    since: Aware
    verified: Aware | None
    damaged: str
    untold: list[str]
    key_set: str
    opened_by: str


class BackupShown(Shown):
    id: str
    system: str
    system_id: str
    kind: str
    name: str
    note: str
    purpose: Literal["backup", "safety"]
    time: Aware
    sequence: int
    stores: list[str]
    copies: list[CopyShown]
    damaged: bool
    routine: str | None
    run: str
    documents: int
    bytes: int
    new_bytes: int
    unchanged: bool
    partial: bool
    parts: list[PartHeld]
    machine: Machine
    census: dict[str, int]
    findings: list[Finding]
    left_out: list[str]
    held: bool
    held_because: str
    doubtful: bool
    expired: bool
    kept_by: list[str]


class DocumentShown(Shown):
    part: str
    path: str
    type: str
    size: int
    mode: int | None
    owner: str | None
    modified: int | None
    secret: bool


class HoldWanted(Wanted):
    reason: str = Field(min_length=1, max_length=500)


class ExportWanted(Wanted):
    format: Literal["tar.zst", "tar.gz"] = "tar.zst"
    parts: list[Noun] | None = None
    passphrase: SecretStr | None = Field(default=None, description="Opens the store in custody apart.")
