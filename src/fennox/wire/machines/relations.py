"""Relations between systems, and the order of their restore."""

from __future__ import annotations

from fennox.wire.base import Shown
from fennox.wire.machines.enrolling import CertificateShown


class Relation(Shown):
    """A related system (or a host that is not enrolled), and the reason."""

    name: str
    because: str


class Relations(Shown):
    """A system's dependencies, dependants and replication peers, and the consequences."""

    needs: list[Relation]
    needed_by: list[Relation]
    strangers: list[Relation]
    peers: list[str]
    replicas: list[str]
    certificates: list[CertificateShown]


class ReturnOrder(Shown):
    """Waves of systems that can be restored together, earlier ones first, and circles of mutual
    dependencies.
    """

    waves: list[list[str]]
    circles: list[list[str]]
