"""A kind rehearsed: one machine is taken by it, and what was taken is put onto another one and
proved there. Needs no service, and keeps nothing.
"""

from __future__ import annotations

import secrets
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass

from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.format.manifest import KindFile, Machine, Reached
from fennox.core.kinds.filling import for_system, values_of
from fennox.core.kinds.model import Kind
from fennox.core.restoring import plan_inputs, planning
from fennox.core.restoring.replicating import Peers
from fennox.core.restoring.sheet import Place, Sheet
from fennox.core.time import stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading.capture import identify
from fennox.engine.restoring import placing
from fennox.engine.restoring.placed_backup import PlacedBackup
from fennox.engine.restoring.restore import RestoreUnderWay
from fennox.engine.restoring.targets import WhoseLogin, look_at_target
from fennox.engine.takes.take import take
from fennox.engine.takes.take_order import Subject, Taken, TakeRequest, TakeTools
from fennox.links.base import Link

NAME = "rehearsal"
"""Of the system, as far as a backup and a sheet need one."""


@dataclass
class KindRehearsal:
    """``vault``: of an empty store, unlocked. ``connect`` opens a link to the machine (``source``)
    or to the one that is written to.
    """

    vault: Vault
    kind: Kind
    kind_file: KindFile
    settings: dict[str, str]
    source: Place
    connect: Callable[[Place], Awaitable[Link]]
    journal: Journal
    evaluates: Evaluates

    def __post_init__(self) -> None:
        self._id = secrets.token_hex(16)
        self._index = PackIndex()

    async def take(self, parts: list[str] | None) -> Taken:
        """A backup of the machine."""
        link = await self.connect(self.source)
        try:
            machine = await identify(self.kind, link, self.settings)
            return await take(
                TakeTools(self.vault, self._index, self.journal, self.evaluates),
                link,
                self._subject(machine),
                self._order(parts),
                any_machine=False,
            )
        finally:
            await link.close()

    def _subject(self, machine: Machine) -> Subject:
        place = self.source
        reached = Reached(address=place.address, account=place.account, key=place.key)
        return Subject(
            self._id,
            NAME,
            f"{NAME}-{self._id[:8]}",
            self.kind,
            self.kind_file,
            self.settings,
            machine.id,
            reached,
        )

    def _order(self, parts: list[str] | None) -> TakeRequest:
        return TakeRequest(
            backup=secrets.token_hex(16),
            run=secrets.token_hex(16),
            attempt=1,
            time=stamp(self.vault.now()),
            sequence=1,
            previous=None,
            parts=parts,
        )

    async def draft(
        self, taken: Taken, target: Place, parts: list[str] | None, places: Mapping[str, str]
    ) -> Sheet:
        """A run sheet for practice; nothing is changed. ``places``: a person's choices by name."""
        chosen = parts_to_take(self.kind, parts)
        link = await self.connect(target)
        try:
            seen = await look_at_target(
                self.kind, link, target, self.settings, chosen, self.evaluates
            )
        finally:
            await link.close()
        reader = await self._reader(taken)
        kind = for_system(self.kind, self.settings)
        wishes = placing.PlaceWishes("practise", False, None, places)
        sent = plan_inputs.sent_parts(self.kind, chosen)
        placed, found = await placing.place(reader, kind, sent, seen, wishes, self.evaluates)
        backup = PlacedBackup(reader, kind, placed, self.evaluates)
        source = plan_inputs.RestoreSource(
            backup=taken.reference.backup,
            system=self._id,
            system_name=NAME,
            head=await backup.head(),
            documents=await backup.digests(chosen),
            login_account=self.source.account,
            sizes=await backup.sizes(chosen),
            address=self.source.address,
            machine=taken.head.machine.id,
            key=self.source.key,
            standing=found,
            placed=placed,
        )
        values = values_of(self.kind, self.settings)
        return planning.plan(self.kind, planning.Intent("practise"), source, seen, chosen, values)

    async def go_on(self, sheet: Sheet, taken: Taken) -> Sheet:
        """Do what the sheet says, until it is proved, or waits for a person."""

        async def connect(place: Place, _whose: WhoseLogin) -> Link:
            return await self.connect(place)

        async def take_safety(_link: Link) -> Taken:
            raise AssertionError("practice onto a fresh address saves nothing")

        restore = RestoreUnderWay(
            sheet=sheet,
            kind=self.kind,
            reader=await self._reader(taken),
            settings=self.settings,
            journal=self.journal,
            now=self.vault.now,
            connect=connect,
            evaluates=self.evaluates,
            save=_keep_nothing,
            take_safety=take_safety,
            see_old_machine=_nothing_new,
            see_peers=_no_peers,
        )
        return await restore.go_on()

    async def _reader(self, taken: Taken) -> BackupReader:
        record = await self.vault.find_record(taken.reference.backup)
        return BackupReader(self.vault, self._index, record)


async def _keep_nothing(_sheet: Sheet) -> None:
    """A rehearsal that dies is begun anew."""


async def _nothing_new(_sheet: Sheet) -> list[str]:
    return []


async def _no_peers(_sheet: Sheet) -> Peers:
    return {}
