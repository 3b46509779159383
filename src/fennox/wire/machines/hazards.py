"""What a restore of a system meets that can go wrong, and whether that was ever met."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.time import Aware
from fennox.wire.base import Shown

HazardSort = Literal["asks", "must-hold", "no-way-back", "not-undone", "restarts", "leaves-open"]
"""A person is asked; something must hold; nothing leads back after it; it is not undone when the
restore is given up; something is restarted; the target is left in a special state for a while."""


class Met(Shown):
    """The newest proved restore in which a step was done."""

    sheet: str
    system: str
    purpose: RestorePurpose
    at: Aware = Field(description="When it was proved.")
    kind_version: int


class Hazard(Shown):
    """A step of the kind that can hurt."""

    phase: str
    step: str
    sorts: list[HazardSort]
    question: str = Field(description="What a person is asked; empty: nothing.")
    leaves: str = Field(description="How it leaves the target meanwhile; empty: as it was.")
    met: Met | None = Field(description="In a restore of this system; null: in none that is known.")
    met_elsewhere: Met | None = Field(description="In one of another system of the kind.")


class Hazards(Shown):
    """Of the kind as it is now."""

    kind: str
    kind_version: int
    items: list[Hazard] = Field(description="In the order in which a restore meets them.")
    versions: list[str] = Field(
        description="Programs whose version the target must have, or a compatible one."
    )
