"""Opening backups for one request: each store is opened once, and each folder of records listed
once.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Damaged, FennoxError, NotFound, PassphraseNeeded
from fennox.core.format import records
from fennox.core.format.records import Record
from fennox.core.names import ObjectName
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.vault import Vault
from fennox.service.backups import copies
from fennox.service.keys import passphrase_relay
from fennox.service.machines.context import Context
from fennox.service.queries.lookups import find_backup
from fennox.stores.whole import WholeObjects


@dataclass
class Shelf:
    """Provides readers of backups. ``passphrase`` opens stores in custody apart."""

    context: Context
    passphrase: str | None = None
    _vaults: dict[str, Vault] = field(default_factory=dict)
    _away: dict[str, FennoxError] = field(default_factory=dict)
    _names: dict[tuple[str, str], dict[str, list[ObjectName]]] = field(default_factory=dict)

    async def reader(self, backup: Backup) -> BackupReader:
        """A reader from the first reachable store without known damage to the backup."""
        async with self.context.session() as session:
            places = await copies.copies_of(session, backup.id)
            folder = (await session.get_one(System, backup.system_id)).folder
        first: FennoxError | None = None
        for store in places:
            try:
                vault = await self._vault(store)
                return BackupReader(
                    vault,
                    self.context.stores.index(store.id),
                    await self._record(vault, backup.id, folder),
                )
            except PassphraseNeeded:
                raise
            except FennoxError as error:
                first = first or error
        raise first or NotFound(
            f"No store holds the backup {backup.id[:12]} any more.", "Choose another backup."
        )

    async def _vault(self, store: StoreRow) -> Vault:
        if store.id in self._away:
            raise self._away[store.id]
        if store.id not in self._vaults:
            try:
                async with self.context.session() as session:
                    door = await self.context.stores.door(session, store)
                vault = await self.context.stores.vault(door)
                await self.context.stores.index(store.id).refresh(vault)
            except FennoxError as error:
                self._away[store.id] = error
                raise
            if self.passphrase is not None:
                vault.unlock(await passphrase_relay.unlock(store, self.passphrase))
            if vault.locked:
                raise PassphraseNeeded(
                    f"The backups in {store.name} are kept apart from the service.",
                    "Give the passphrase.",
                )
            vault.store = WholeObjects(vault.store)
            self._vaults[store.id] = vault
        return self._vaults[store.id]

    async def _record(self, vault: Vault, backup: str, folder: str) -> Record:
        """As :meth:`Vault.find_record`, with one listing for all backups of a system."""
        known = self._names.get((vault.id, folder))
        if known is None:
            known = self._names[vault.id, folder] = defaultdict(list)
            for name in await vault.record_names(folder if vault.header.plain_names else ""):
                known[records.short_id(name)].append(name)
        found = [await vault.read_record(name) for name in known.get(backup[:8], [])]
        mine = [record for record in found if record.reference.backup == backup]
        if not mine:
            raise Damaged(
                f"The record of backup {backup[:8]} is not in {vault.store.address}.",
                "Try another copy.",
            )
        return max(mine, key=lambda record: record.reference.generation)


async def reader_of(context: Context, backup: str, passphrase: str | None) -> BackupReader:
    """A reader of a backup's best copy; ``backup``: its id, the beginning of it, or its name."""
    async with context.session() as session:
        row = await find_backup(session, backup)
    return await Shelf(context, passphrase).reader(row)
