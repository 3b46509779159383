"""The spool of this service, and one system's part of it as the engine reads it."""

from __future__ import annotations

from collections.abc import AsyncIterator, Collection
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from fennox.core.evidence.pushes import Arrival
from fennox.drop.offers import Offers
from fennox.drop.spool import Jail, Spool, SpoolNote
from fennox.service.machines.context import Context


def spool_folder(state: Path) -> Path:
    return state / "drop"


def spool_of(context: Context) -> Spool:
    return Spool(spool_folder(context.settings.state) / "spool", context.keyfile, context.now)


def offers_of(context: Context) -> Offers:
    """What restores offer to systems that fetch it."""
    return Offers(spool_folder(context.settings.state) / "offers", context.keyfile, context.now)


def has_spool(context: Context) -> bool:
    """Whether the receiving end ever ran here."""
    return spool_folder(context.settings.state).is_dir()


def arrival_of(note: SpoolNote) -> Arrival:
    """Its name without the slash before it, as kinds write names."""
    return Arrival(
        id=note.id,
        name=note.name.lstrip("/"),
        size=note.size,
        begun=note.begun,
        ended=note.ended if note.state == "arrived" else None,
        problem=note.problem,
    )


@dataclass
class SystemDrop:
    """One system's arrivals. ``only``: ids of those that a run was queued for; None: all.

    ``fingerprint``: of the drop's host key, where it matters.

    What a backup holds is removed by ``empty``, after the backup is in the catalogue.
    """

    jail: Jail
    only: Collection[str] | None = None
    fingerprint: str = ""
    _taken: list[str] = field(default_factory=list)

    def arrivals(self) -> list[Arrival]:
        return [
            arrival_of(note)
            for note in self.jail.notes()
            if self.only is None or note.id in self.only
        ]

    async def content(self, arrival: Arrival) -> AsyncIterator[bytes]:
        note = next(note for note in self.jail.notes() if note.id == arrival.id)
        for block in self.jail.content(note):
            yield block

    def now(self) -> datetime:
        return self.jail.spool.now()

    def taken(self, arrivals: list[Arrival]) -> None:
        self._taken += [arrival.id for arrival in arrivals]

    def empty(self) -> None:
        """Remove what was taken. What a run was queued for has been taken even if an earlier
        attempt of the run read it.
        """
        gone = {*self._taken, *(self.only or ())}
        for note in self.jail.notes() if gone else ():
            if note.id in gone:
                self.jail.remove(note)


def drop_of(context: Context, system: str, only: Collection[str] | None = None) -> SystemDrop:
    return SystemDrop(spool_of(context).jail(system), only)
