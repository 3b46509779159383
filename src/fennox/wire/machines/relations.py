"""How systems hang together, and the order they come back in."""

from __future__ import annotations

from fennox.wire.base import Shown
from fennox.wire.machines.enrolling import CertificateShown


class Relation(Shown):
    """Another system (or a host that is not enrolled), and why."""

    name: str
    because: str


class Relations(Shown):
    """Who must be back before this system, who waits for it, who it replicates with, and what that
    means.
    """

    needs: list[Relation]
    needed_by: list[Relation]
    strangers: list[Relation]
    peers: list[str]
    replicas: list[str]
    certificates: list[CertificateShown]


class ReturnOrder(Shown):
    """Waves of systems that can come back together, earlier ones first, and circles in which all
    need each other.
    """

    waves: list[list[str]]
    circles: list[list[str]]
