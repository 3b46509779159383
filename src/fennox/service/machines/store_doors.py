"""Access to stores: places, keys, and this process's caches."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field

from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Copy
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login
from fennox.core.errors import MendSettings
from fennox.core.format import header as headers
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.schedule import moments
from fennox.engine.backups import opened_store
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.links.base import Credential
from fennox.service.foundation import session_guard
from fennox.service.foundation.clock import Now
from fennox.service.machines.credentials import Credentials
from fennox.service.machines.doors import Door
from fennox.service.queries.newest_good import newest_record
from fennox.stores import addresses
from fennox.stores.base import Store
from fennox.stores.opening import open_store

_LATELY = 60  # seconds
_MEASURED_EVERY = 3600.0  # seconds between checks of a store's clock


@dataclass
class StoreDoors:
    """Access to stores for one process. ``session``: begins a transaction."""

    session: Callable[[], AbstractAsyncContextManager[AsyncSession]]
    credentials: Credentials
    now: Now
    simulated: bool
    _stores: dict[str, tuple[object, Store]] = field(default_factory=dict)
    _indexes: dict[str, PackIndex] = field(default_factory=dict)
    # headers seen in stores, and when
    _headers: dict[str, tuple[str, float]] = field(default_factory=dict)
    _measured: dict[str, float] = field(default_factory=dict)  # when stores' clocks were read

    async def close(self) -> None:
        for _, store in self._stores.values():
            await store.close()

    def forget(self) -> None:
        """Clear all caches."""
        self._stores.clear()
        self._indexes.clear()
        self._headers.clear()

    def far_side(self, address: str, login: Login | None, key: str | None) -> Store:
        """A place that is not (yet) a known store. The caller closes it."""
        return self._reach(address, self.credentials.credential(login) if login else None, key)

    def _reach(self, address: str, credential: Credential | None, key: str | None) -> Store:
        return session_guard.outside_sessions(open_store(addresses.parse(address), credential, key))

    async def store(self, door: Door) -> Store:
        """The store's place; its connections stay open for the next verb."""
        held = self._stores.get(door.place)
        if held is not None and held[0] == door.known:
            return held[1]
        made = self._reach(door.address, door.credential, door.key)
        self._stores[door.place] = (door.known, made)
        if held is not None:
            await held[1].close()
        return made

    async def write_secret(self, session: AsyncSession, row: StoreRow) -> WriteSecret:
        """Of the newest generation."""
        return self.write_secret_of(await self._key_set(session, row))

    def write_secret_of(self, keys: KeySet) -> WriteSecret:
        place = f"key_sets|{keys.id}|{keys.generation}|write secret"
        return WriteSecret(
            self.credentials.keyfile.open(keys.sealed_write_secret, place), keys.id, keys.generation
        )

    async def kept_opening_key(self, session: AsyncSession, row: StoreRow) -> OpeningKey | None:
        """The opening key in custody ``kept``; None in ``apart``."""
        keys = await self._key_set(session, row)
        if keys.sealed_opening_key is None:
            return None
        place = f"key_sets|{keys.id}|{keys.generation}|opening key"
        suite = headers.decode(row.header.encode()).suite
        return OpeningKey(suite, self.credentials.keyfile.open(keys.sealed_opening_key, place))

    async def _key_set(self, session: AsyncSession, row: StoreRow) -> KeySet:
        keys = await session.get(KeySet, (row.key_set, row.generation))
        if keys is None:
            raise MendSettings(
                f"The keys of the store {row.name} are missing.", "Adopt the store again."
            )
        return keys

    async def door(
        self,
        session: AsyncSession,
        row: StoreRow,
        *,
        removing: bool = False,
        generations: Sequence[KeySet] | None = None,
        lately: bool = False,
    ) -> Door:
        """Read what is needed to open a store outside this session. ``removing``: use the store's
        separate login for removals, if any. ``generations``: of its key set, if they have been
        read. ``lately``: as for :meth:`vault`.
        """
        if generations is None:
            generations = (
                (await session.execute(select(KeySet).where(KeySet.id == row.key_set)))
                .scalars()
                .all()
            )
        # whose error explains what is wrong if the store's own are missing
        await self._key_set(session, row)
        login_id = (row.sweep_login_id if removing else None) or row.login_id
        login = await session.get(Login, login_id) if login_id else None
        changed = login.changed.isoformat() if login else None
        return Door(
            store=row.id,
            name=row.name,
            address=row.address,
            place=f"{row.id} {login_id}",
            known=(row.address, row.key, changed, login_id),
            credential=self.credentials.credential(login) if login else None,
            key=row.key,
            header=row.header,
            held={keys.generation: self.write_secret_of(keys) for keys in generations},
            opening=await self.kept_opening_key(session, row),
            chain={
                keys.generation: sealed
                for keys in generations
                if (sealed := keys.previous_opening_key)
            },
            newest=(
                None
                if self._looked(row.id, row.header, lately)
                else await newest_record(session, row)
            ),
        )

    def _looked(self, store: str, header: str, lately: bool) -> bool:
        """Whether this process confirmed within the last minute that this header is the newest
        there.
        """
        seen = self._headers.get(store)
        return (
            lately
            and seen is not None
            and seen[0] == header
            and time.monotonic() - seen[1] < _LATELY
        )

    async def vault(self, door: Door, *, lately: bool = False) -> Vault:
        """Open a store with its pinned header and the keys held here, and check that it was not set
        back. ``lately``: a check within the last minute suffices, as for the many takes of a night.
        """
        looked = self._looked(door.store, door.header, lately)
        begun = time.monotonic()
        vault = await opened_store.open_pinned(
            await self.store(door),
            pinned=door.header.encode(),
            held=door.held,
            opening=door.opening,
            now=self.now,
            chain=door.chain,
            looked=looked,
        )
        if not looked:
            await self._see_whether_it_went_back(door, vault)
            self._headers[door.store] = (door.header, begun)
        return vault

    async def _see_whether_it_went_back(self, door: Door, vault: Vault) -> None:
        """A store without the last record stored there is an older copy of itself; reported as a
        concern.
        """
        if door.newest is None or not await vault.lost(door.newest):
            return
        self.index(door.store).look_again()
        text = (
            f"its newest record, {door.newest.rsplit('/', 1)[-1]}, is not there, and no sweep"
            " removed it"
        )
        async with self.session() as session:
            await session.execute(
                update(StoreRow).where(StoreRow.id == door.store).values(went_back=text)
            )

    async def still_held(self, backup: str, store: str) -> bool:
        """Whether a store holds a backup according to the catalogue now."""
        async with self.session() as session:
            return await session.get(Copy, (backup, store)) is not None

    def measures(self, store: StoreRow) -> bool:
        """Whether to measure the offset of a store's clock: rarely, while there is none."""
        if self.simulated:
            return False
        now, apart = (
            time.monotonic(),
            store.skew is None or abs(store.skew) > moments.APART.total_seconds(),
        )
        due = apart or now - self._measured.get(store.id, -_MEASURED_EVERY) >= _MEASURED_EVERY
        if due:
            self._measured[store.id] = now
        return due

    def index(self, store_id: str) -> PackIndex:
        """This process's chunk index of a store."""
        return self._indexes.setdefault(store_id, PackIndex())
