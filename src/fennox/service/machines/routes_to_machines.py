"""How the way to a machine leads: at which site it stands, and through which other machines."""

from __future__ import annotations

from dataclasses import dataclass

from fennox.catalogue.models.systems import System

PATIENCE = 15.0


@dataclass(frozen=True)
class Way:
    """``via``: the id of the system that it leads through; ``patience``: seconds that each
    connection may take.
    """

    site: str = ""
    via: str | None = None
    patience: float = PATIENCE


ANYWHERE = Way()
"""By the service's own network."""


def way_to(system: System) -> Way:
    return Way(system.site, system.via_id, system.patience)
