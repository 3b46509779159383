"""A store with its keys: making one, opening one, and the small objects in it (headers, records,
notes).
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime

from fennox.core.errors import (
    Conflict,
    Damaged,
    NoRoom,
    NotFound,
    PassphraseNeeded,
)
from fennox.core.format import anchors, notes, records, sweeps
from fennox.core.format.generations import all_openings
from fennox.core.format.header import Header
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.primitives.secret import SALT_LENGTH, WriteSecret
from fennox.core.names import ObjectName, object_name
from fennox.core.time import stamp
from fennox.stores.base import Store

README_NAME = object_name("READ-ME-FIRST.txt")
RESCUE_NAME = object_name("rescue.py")
RESERVE_NAME = object_name("reserve.bin")  # space reserved for sweeping a full store
_RESERVE = 256 * 1024  # bytes

Now = Callable[[], datetime]


@dataclass
class Vault:
    """A store, its newest header, and the keys held for it, by generation.

    ``openings`` is empty in custody ``apart`` until :meth:`unlock`. ``chain``: as for
    ``generations.all_openings``.
    """

    store: Store
    header: Header
    held: Mapping[int, WriteSecret]
    now: Now
    openings: Mapping[int, OpeningKey] = field(default_factory=dict)
    chain: Mapping[int, bytes] = field(default_factory=dict)
    random: Callable[[int], bytes] = field(default=secrets.token_bytes)

    @property
    def id(self) -> str:
        return self.header.store

    @property
    def secret(self) -> WriteSecret:
        return self.held[self.header.generation]

    def secret_of(self, generation: int) -> WriteSecret:
        try:
            return self.held[generation]
        except KeyError:
            raise Damaged(
                f"Something in the store is of key generation {generation}, which is not known"
                " here.",
                "Open the store with a passphrase of that generation.",
            ) from None

    @property
    def locked(self) -> bool:
        """Whether a passphrase is needed to open backups."""
        return self.header.generation not in self.openings

    def unlock(self, opening: OpeningKey) -> None:
        """Use the newest generation's opening key and the earlier ones reachable from it."""
        self.openings = all_openings(
            opening, self.header.key_set, self.header.generation, self.chain
        )

    def opening_key(self, generation: int | None = None) -> OpeningKey:
        """The secret of a generation, by default the newest."""
        if self.locked:
            raise PassphraseNeeded(
                "The opening key of this store is kept apart from the service.",
                "Give the passphrase for this run.",
            )
        wanted = generation or self.header.generation
        try:
            return self.openings[wanted]
        except KeyError:
            raise PassphraseNeeded(
                f"The backup is of key generation {wanted}, which this passphrase does not open.",
                "Give a passphrase that was valid when it was taken.",
            ) from None

    def lock_end(self) -> datetime | None:
        """The lock expiry for objects written now, if the far side supports locks (§14)."""
        lock = self.store.lock
        return self.now() + lock if lock is not None else None

    async def put(self, name: ObjectName, data: bytes) -> None:
        """Write an object a backup needs, locked if the store locks."""
        await self.store.put(name, data, retain_until=self.lock_end())

    def salt(self) -> bytes:
        return self.random(SALT_LENGTH)

    def record_name(self, reference: records.Reference) -> ObjectName:
        return records.name(reference, plain_names=self.header.plain_names)

    async def read_record(self, name: ObjectName) -> records.Record:
        data = await self.store.get(name)
        record = records.decode(data, self.secret_of(records.generation(data)), self.id)
        records.check_name(record, name, plain_names=self.header.plain_names)
        return record

    async def record_names(self, folder: str = "") -> list[ObjectName]:
        prefix = f"systems/{folder}/" if folder else "systems/"
        return [
            found.name async for found in self.store.list(prefix) if found.name.endswith(".fxr")
        ]

    async def record_of(self, backup: str, folder: str, time: str, name: str) -> records.Record:
        """As :meth:`find_record`, without listing the store, since all parts of the record's name
        are known.
        """
        if self.header.plain_names:
            with suppress(NotFound):
                generation = self.header.generation
                return await self.read_record(
                    records.name_of(folder, time, name, backup, generation)
                )
        return await self.find_record(backup, folder)

    async def lost(self, record: ObjectName) -> bool:
        """Whether a record stored here disappeared without a sweep; under another name it still
        counts as present.
        """
        if await self.store.stat(record) is not None:
            return False
        short, folder = records.short_id(record), record.rsplit("/", 1)[0].removeprefix("systems/")
        if any(
            records.short_id(name) == short
            for name in await self.record_names(self._folder(folder))
        ):
            return False
        return short not in sweeps.swept_backups(await self.sweep_lists(whole=False))

    def _folder(self, folder: str) -> str:
        """The folder to list for a system's records; the whole store if names are not plain."""
        return folder if self.header.plain_names else ""

    async def find_record(self, backup: str, folder: str = "") -> records.Record:
        """The record of a backup, by its id or a prefix of it. ``folder``: of its system, if
        known.
        """
        inside = self._folder(folder)
        names = [
            name for name in await self.record_names(inside) if records.short_id(name) == backup[:8]
        ]
        found = [await self.read_record(name) for name in names]
        mine = [record for record in found if record.reference.backup.startswith(backup)]
        if mine:
            return max(mine, key=lambda record: record.reference.generation)
        raise Damaged(
            f"The record of backup {backup[:8]} is not in {self.store.address}.",
            "Try another copy.",
        )

    def _note(self, data: bytes) -> notes.Note:
        return notes.decode(data, self.secret_of(notes.generation(data)), self.id)

    async def notes_of(self, record: ObjectName) -> dict[ObjectName, notes.Note]:
        """The notes beside a record, by their object names."""
        prefix = record.removesuffix(".fxr") + "."
        found = {}
        async for item in self.store.list(record.rsplit("/", 1)[0] + "/"):
            # a longer name is a note of the same backup under another generation
            rest = item.name.removeprefix(prefix)
            if rest != item.name and rest.count(".") == 1 and rest.endswith(".fxn"):
                found[item.name] = self._note(await self.store.get(item.name))
        return found

    async def sweep_lists(
        self, *, whole: bool = True, known: dict[ObjectName, sweeps.Sweep] | None = None
    ) -> list[sweeps.Sweep]:
        """Sweep lists, oldest first. ``whole``: an unreadable list is an error instead of being
        skipped. ``known``: cache of lists read before, which never change; new ones are added.
        """
        known = {} if known is None else known
        found = []
        async for item in self.store.list("sweep/"):
            if not item.name.endswith(".fxc"):
                continue
            if item.name not in known:
                data = await self.store.get(item.name)
                try:
                    known[item.name] = sweeps.decode(
                        data, self.secret_of(sweeps.generation(data)), self.id
                    )
                except Damaged:
                    if whole:
                        raise
                    continue
            found.append(known[item.name])
        return sorted(found, key=lambda sweep: sweep.time)

    async def write_sweep(self, sweep: sweeps.Sweep) -> None:
        """Write a sweep list. A full store gives up its reserve for it, since nothing may be
        removed without a list.
        """
        name = sweeps.name(sweep.time, self.random(4).hex())
        data = sweeps.encode(sweep, self.secret, self.id, self.salt())
        try:
            await self.store.put(name, data)
        except NoRoom:
            if await self.store.stat(RESERVE_NAME) is None:
                raise
            await self.store.delete(RESERVE_NAME)
            await self.store.put(name, data)

    async def keep_reserve(self) -> None:
        """Keep a reserve file where the far side reports a limit, so that a full store can still be
        swept.
        """
        if not self.store.abilities.space or await self.store.stat(RESERVE_NAME) is not None:
            return
        with suppress(NoRoom, Conflict):
            await self.store.put(RESERVE_NAME, self.random(_RESERVE))

    async def write_note(self, note: notes.Note, reference: records.Reference) -> ObjectName:
        name = notes.name(self.record_name(reference), self.random(4).hex())
        put = note.model_copy(update={"written": stamp(self.now())})
        await self.put(name, notes.encode(put, self.secret, self.id, self.salt()))
        return name

    async def write_anchors(self, told: anchors.Anchors) -> ObjectName:
        """Record what another store holds, so that this store can show if the other was set back
        (§15).
        """
        name = anchors.name(told, self.random(4).hex())
        await self.store.put(name, anchors.encode(told, self.secret, self.id, self.salt()))
        return name

    async def anchors_of(self, store: str) -> list[anchors.Anchors]:
        """Anchors kept here of another store, oldest first; unreadable ones are left for the scrub
        to report.
        """
        found = []
        async for item in self.store.list("anchors/"):
            if item.name.startswith(f"anchors/{store[:8]}.") and item.name.endswith(".fxa"):
                data = await self.store.get(item.name)
                with suppress(Damaged):
                    found.append(
                        anchors.decode(data, self.secret_of(anchors.generation(data)), self.id)
                    )
        return sorted((one for one in found if one.store == store), key=lambda one: one.time)

    async def read_notes(self, folder: str) -> list[notes.Note]:
        found = []
        async for item in self.store.list(f"systems/{folder}/"):
            if item.name.endswith(".fxn"):
                found.append(self._note(await self.store.get(item.name)))
        return found

    async def condemned(
        self, known: dict[ObjectName, sweeps.Sweep] | None = None
    ) -> frozenset[str]:
        """Packs that takes treat as absent (store-format §11.2). ``known`` as for
        :meth:`sweep_lists`.

        A damaged list does not stop a take. A sweep, which could delete, stops at it, and a scrub
        removes it.
        """
        return sweeps.condemned_packs(await self.sweep_lists(whole=False, known=known))
