"""Fennox's own state: whether and where it is backed up, and how much would be lost."""

from __future__ import annotations

from pydantic import Field

from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted


class OwnStateWanted(Wanted):
    store: Noun
    copy_to: list[Noun] = Field(
        default=[], description="Further stores that get a copy of every backup."
    )
    on_this_machine: bool = Field(
        default=False,
        description=(
            "Accept stores that all lie on the machine of the service, and are lost with it."
        ),
    )


class OwnStateShown(Shown):
    """``newest``: time of the newest good backup; later changes would be lost."""

    kept: bool
    system: str | None
    routine: str | None
    when: str | None
    stores: list[str]
    newest: Aware | None
    backup: str | None
    held_in: list[str]
    next_run: Aware | None
    warnings: list[str]
    rebuild: list[str] = Field(
        description="The commands that bring the service back on an empty machine."
    )
