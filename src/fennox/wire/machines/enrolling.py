"""Inspecting a machine, enrolling it as a system, changing and retiring systems."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fennox.core.format.manifest import Finding, Machine
from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted
from fennox.wire.kinds import PartShown

Patience = Annotated[int, Field(ge=1, le=300, description="Seconds that a connection may take.")]


class NewSystem(Wanted):
    name: Noun
    kind: Noun
    address: str = Field(
        description="Host and port, as `host:port`; the kind's port if left out.", max_length=300
    )
    login: Noun | None = Field(default=None, description="Needed for every kind that is reached.")
    key: str | None = Field(
        default=None, description="The accepted fingerprint of host key or certificate."
    )
    settings: dict[str, str] = {}
    site: str = ""
    labels: list[Noun] = []
    needs: list[Noun] = Field(default=[], description="Systems that must be back before this one.")
    via: Noun | None = Field(
        default=None, description="The system that the way to it leads through, by SSH."
    )
    patience: Patience = 15
    spare: bool = Field(
        default=False,
        description="It is there to practise restores on: it may be overwritten, and no routine"
        " takes it.",
    )


class SystemChange(Wanted):
    name: Noun | None = Field(
        default=None, description="Its backups stay its own; routines that name it follow."
    )
    kind: Noun | None = Field(
        default=None, description="Reached in the same way as the one before."
    )
    address: str | None = None
    login: Noun | None = None
    key: str | None = None
    settings: dict[str, str] | None = None
    site: str | None = None
    labels: list[Noun] | None = None
    needs: list[Noun] | None = None
    via: Noun | Literal[""] | None = Field(
        default=None, description="Empty: the way to it is direct."
    )
    patience: Patience | None = None
    spare: bool | None = None


class Confirmed(Wanted):
    """Confirms that the present machine is this system: it was reinstalled or replaced."""

    machine: str


class Retired(Wanted):
    """Retires a system. ``let_go``: its successor is accepted, and its backups may be removed by
    their ladders.
    """

    because: str = Field(min_length=1, max_length=500)
    let_go: bool = False


class RemoveWanted(Wanted):
    """The reason for forgetting a system."""

    because: str = Field(min_length=1, max_length=500)


class Removed(Shown):
    """A removed system, and what remains: its backups and their stores."""

    name: str
    backups: int
    stores: list[str]


class LookWanted(Wanted):
    """A machine that is not enrolled. Without a key, only its fingerprint is returned; without a
    kind, one is proposed.
    """

    address: str = Field(max_length=260)
    login: Noun
    key: str | None = Field(default=None, max_length=300)
    kind: Noun | None = None
    site: str = Field(default="", max_length=64)
    via: Noun | None = None
    settings: dict[str, str] = {}


class CertificateShown(Shown):
    """A captured certificate, or the one a machine presents (without document)."""

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
    """Result of an inspection; nothing is kept. ``enrolled_as``: the system this address or machine
    already is. ``related``: enrolled systems it names as dependencies or as members of its set.
    ``fits``: matching kinds. With exactly one, or a given one, it has been read once: parts, census
    and findings.
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


class Probe(Shown):
    """A live system's identity, compared with the known one."""

    reached: bool
    fingerprint: str
    fingerprint_known: bool
    machine: Machine | None
    same_machine: bool | None
    parts: list[PartShown]
    problem: str | None = None
    remedy: str | None = None
