"""The route to a machine: its site and its jump hosts."""

from __future__ import annotations

from dataclasses import dataclass

from fennox.catalogue.models.systems import System

PATIENCE = 15.0


@dataclass(frozen=True)
class Way:
    """``via``: id of the system it leads through; ``patience``: seconds allowed per connection."""

    site: str = ""
    via: str | None = None
    patience: float = PATIENCE


ANYWHERE = Way()
"""By the service's own network."""


def way_to(system: System) -> Way:
    return Way(system.site, system.via_id, system.patience)
