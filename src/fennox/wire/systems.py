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
    login: Noun | None = Field(default=None, description="Needed for every kind that is reached.")
    key: str | None = Field(default=None, description="The accepted fingerprint of host key or certificate.")
    settings: dict[str, str] = {}
    site: str = ""
    labels: list[Noun] = []
    needs: list[Noun] = Field(default=[], description="Systems that must be back before this one.")
    via: Noun | None = Field(default=None, description="The system that the way to it leads through, by SSH.")


class SystemChange(Wanted):
    address: str | None = None
    login: Noun | None = None
    key: str | None = None
    settings: dict[str, str] | None = None
    site: str | None = None
    labels: list[Noun] | None = None
    needs: list[Noun] | None = None
    via: Noun | Literal[""] | None = Field(default=None, description="Empty: the way to it is direct.")


class Confirmed(Wanted):
    """Says that the machine that answers now is this system: it was reinstalled or replaced."""

    machine: str


class Retired(Wanted):
    """Says that a system is no more. ``let_go``: its successor is accepted, and its backups may go by their ladders."""

    because: str = Field(min_length=1, max_length=500)
    let_go: bool = False


class PartShown(Shown):
    name: str
    title: str
    essential: bool
    default: bool
    uses: list[Literal["rebuild", "load"]]
    overwrites: str
    documents: list[str]


class KindShown(Shown):
    name: str
    version: int
    title: str
    about: str
    reach: Literal["ssh", "https", "hand", "service"]
    port: int
    entrance: str = Field(description="Where the steps of a restore go, if not where it is read.")
    settings: dict[str, str]
    parts: list[PartShown]
    census: list[str]
    left_out: list[str]
    rules: list[str]
    steps: list[str]


class SystemName(Shown):
    id: str
    name: str
    kind: str
    site: str


class LookWanted(Wanted):
    """A machine that is not enrolled. Without a key only its fingerprint is told, without a kind one is proposed."""

    address: str = Field(max_length=260)
    login: Noun
    key: str | None = Field(default=None, max_length=300)
    kind: Noun | None = None
    site: str = Field(default="", max_length=64)
    via: Noun | None = None
    settings: dict[str, str] = {}


class CertificateShown(Shown):
    """A certificate among what was captured, or the one that a machine shows (no document)."""

    document: str
    subject: str
    until: Aware


class TriedPart(Shown):
    name: str
    title: str
    essential: bool
    documents: int
    bytes: int


class Looked(Shown):
    """What a look has found; nothing is kept. ``enrolled_as``: the system that this address or machine is already.

    ``related``: enrolled systems that it names as what it cannot work without, or as members of its own set.
    ``fits``: the kinds that fit. With exactly one, or a given one, it has been read once: parts, census and findings.
    """

    address: str
    key: str
    accepted: bool
    fits: list[str] = []
    kind: str | None = None
    machine: Machine | None = None
    enrolled_as: str | None = None
    parts: list[TriedPart] = []
    census: dict[str, int] = {}
    findings: list[Finding] = []
    left_out: list[str] = []
    certificates: list[CertificateShown] = []
    related: list[str] = []


class NewKind(Wanted):
    """A kind file. A newer version takes the place of the older one; backups carry the text they came with."""

    text: str = Field(max_length=1_000_000)


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
    needs: list[str]
    via: str | None
    key_until: Aware | None
    suspended_because: str
    left_open: list[str]  # what takes did around them and did not undo
    looked: Aware | None  # when it was last looked at between takes
    differs: str  # how it differed then from its last backup, in words; empty: it did not
    differs_since: Aware | None
    retired: Aware | None  # since when it is no more
    retired_because: str
    let_go: bool  # whether a retired one's backups may go by their ladders
    last_run: RunBrief | None
    active_run: RunBrief | None


class Relation(Shown):
    """Another system (or a host that is not enrolled), and why."""

    name: str
    because: str


class Relations(Shown):
    """Who must be back before this system, who waits for it, who it replicates with, and what that means."""

    needs: list[Relation]
    needed_by: list[Relation]
    strangers: list[Relation]
    peers: list[str]
    replicas: list[str]
    certificates: list[CertificateShown]


class ReturnOrder(Shown):
    """Waves of systems that can come back together, earlier ones first, and circles in which all need each other."""

    waves: list[list[str]]
    circles: list[list[str]]


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
    hold: Annotated[str, Field(max_length=500, description="Put it on hold for this reason, until it is released.")] = (
        ""
    )
    parts: list[Noun] | None = None


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
    worth: list[str]  # what it is good for and what not, in sentences
    held: bool
    held_because: str
    doubtful: bool
    doubtful_because: str
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


class ClearWanted(Wanted):
    """What a person has found, who has looked at a doubtful backup."""

    good: bool
    reason: str = Field(min_length=1, max_length=500)


class ExportWanted(Wanted):
    format: Literal["tar.zst", "tar.gz"] = "tar.zst"
    parts: list[Noun] | None = None
    passphrase: SecretStr | None = Field(default=None, description="Opens the store in custody apart.")
