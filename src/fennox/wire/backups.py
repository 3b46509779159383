"""Backups: taking, holding, copying, exporting, and hand-ins."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, SecretStr

from fennox.core.format.manifest import Finding, Machine, PartHeld
from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted


class NewTake(Wanted):
    system: Noun
    store: Noun | None = Field(
        default=None, description="May be left out where there is only one store."
    )
    name: Annotated[str, Field(max_length=48)] = ""
    note: Annotated[str, Field(max_length=500)] = ""
    hold: Annotated[
        str,
        Field(max_length=500, description="Put it on hold for this reason, until it is released."),
    ] = ""
    parts: list[Noun] | None = None
    wait: bool = Field(
        default=True, description="Line up behind an active run of the system; else it is refused."
    )


class HandInShown(Shown):
    """A document that people export and hand in; ``backup`` holds the newest one."""

    document: str
    part: str
    title: str
    how: str
    every: int  # days
    handed_in: Aware | None
    by: str
    backup: str | None
    due: Aware | None


class CopyWanted(Wanted):
    store: Noun


class CopyShown(Shown):
    """One place that holds a backup. ``damaged``: why it cannot be read completely there; empty: no
    known damage. ``untold``: notes about the backup, such as a hold, not yet written to the store.
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
    not_counted: list[str] = Field(
        description="Lists that parts determine which this backup does not hold."
    )
    findings: list[Finding]
    left_out: list[str]
    worth: list[str]  # what it is good for and what not, as sentences
    held: bool
    held_because: str
    doubtful: bool
    doubtful_because: str
    expired: bool  # marked for removal; can still be kept
    expired_at: Aware | None = None
    misdated: bool = False  # its date is known to be wrong
    future: bool = False  # its date is in the future by the service's clock
    kept_by: list[str]


class MarkedShown(Shown):
    """A backup marked for removal from a store. ``seen``: when a sweep first saw the mark."""

    backup: str
    system: str
    name: str
    time: Aware
    bytes: int
    why: str
    by: str
    marked: Aware | None
    seen: Aware | None
    waits: str
    person: bool  # only a person can release it


class RemovalShown(Shown):
    """A backup removed from a store by a sweep."""

    backup: str
    system: str
    store: str
    name: str
    time: Aware
    bytes: int
    why: str
    removed: Aware
    run: str


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


class ClearWanted(Wanted):
    """A person's verdict on a doubtful backup."""

    good: bool
    reason: str = Field(min_length=1, max_length=500)


class ExportWanted(Wanted):
    format: Literal["tar.zst", "tar.gz"] = "tar.zst"
    parts: list[Noun] | None = None
    passphrase: SecretStr | None = Field(
        default=None, description="Opens the store in custody apart."
    )
