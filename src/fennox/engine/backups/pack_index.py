"""Index of chunks by place, read from the packs' own tables, never from the catalogue."""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import datetime
from math import inf

from fennox.core.errors import Damaged, NotFound
from fennox.core.format import packs
from fennox.core.format.sweeps import Sweep
from fennox.core.names import ObjectName
from fennox.engine.backups.vault import Vault
from fennox.stores.base import FoundObject, Span

_FIRST_READ = 16 * 1024  # bytes; covers the whole table of most packs


@dataclass(frozen=True)
class ChunkPlace:
    """One chunk in one pack."""

    pack: ObjectName
    entry: packs.PackEntry


class PackIndex:
    """Chunk id → places. Tables never change, so a refresh reads only packs not seen before."""

    def __init__(self) -> None:
        self._tables: dict[ObjectName, packs.Table] = {}
        self._places: dict[bytes, list[ChunkPlace]] = {}
        self._names: dict[str, ObjectName] = {}  # by the digest in the name
        self.damaged: dict[ObjectName, str] = {}
        self.locks: dict[ObjectName, datetime] = {}  # expiry of a pack's lock, where known
        self.swept: dict[ObjectName, Sweep] = {}  # sweep lists that were read
        # packs condemned when the packs were listed
        self.condemned: frozenset[str] = frozenset()
        self._listed = -inf  # when the packs were listed, by a monotonic clock
        self._listed_at: datetime | None = (
            None  # and by the service's, which may be a simulated one
        )

    async def refresh(self, vault: Vault, *, not_older: float = 0) -> None:
        """List the packs, unless done within ``not_older`` seconds. Sweep lists name removed packs
        for ever, so a caller that checks the index against them never relies on a removed pack.
        Packs just written by another process may be missing.
        """
        begun, now = time.monotonic(), vault.now()
        passed = (
            abs((now - self._listed_at).total_seconds()) if self._listed_at is not None else inf
        )
        if max(passed, begun - self._listed) < not_older:
            return
        await self._list(vault)
        self.condemned = await vault.condemned(self.swept)
        self._listed, self._listed_at = begun, now

    def look_again(self) -> None:
        """Drop the listing."""
        self._listed = -inf

    async def _list(self, vault: Vault) -> None:
        # A pack that another run adds during the listing is missing from it, but not gone.
        known, known_damaged = set(self._tables), set(self.damaged)
        present: set[ObjectName] = set()
        async for found in vault.store.list("packs/"):
            if found.name.endswith(".fxp"):
                present.add(found.name)
                if found.name not in self._tables and found.name not in self.damaged:
                    await self._read(vault, found)
        for gone in known - present:
            self.forget(gone)
        for gone in known_damaged - present:
            self.damaged.pop(gone, None)

    async def _read(self, vault: Vault, found: FoundObject) -> None:
        try:
            start = await vault.store.get(found.name, Span(0, min(_FIRST_READ, found.size)))
            needed = packs.table_length(start[: packs.FIXED])
            if needed > found.size:
                raise Damaged(f"{found.name} is cut short.", "Heal it from another copy.")
            if needed > len(start):
                start += await vault.store.get(found.name, Span(len(start), needed - len(start)))
            secret = vault.secret_of(packs.generation(start))
            self.add(found.name, packs.decode_table(start[:needed], secret, vault.id, found.size))
        except NotFound:
            return  # removed since the listing
        except Damaged as error:
            self.damaged[found.name] = error.what

    def add(self, pack: ObjectName, table: packs.Table) -> None:
        if pack in self._tables:
            return  # another run of this process was faster
        self._tables[pack] = table
        self._names[packs.digest_in_name(pack)] = pack
        for entry in table.entries:
            self._places.setdefault(entry.id, []).append(ChunkPlace(pack, entry))

    def forget(self, pack: ObjectName) -> None:
        """Forget a pack that is gone from the store."""
        table = self._tables.pop(pack, None)
        self._names.pop(packs.digest_in_name(pack), None)
        self.locks.pop(pack, None)
        for entry in table.entries if table else ():
            left = [place for place in self._places[entry.id] if place.pack != pack]
            if left:
                self._places[entry.id] = left
            else:
                del self._places[entry.id]

    def mark_damaged(self, pack: ObjectName, reason: str) -> None:
        """Stop reusing a pack immediately; its intact chunks remain readable."""
        self.damaged[pack] = reason

    def named(self, digest: str) -> ObjectName | None:
        return self._names.get(digest)

    @property
    def packs(self) -> dict[ObjectName, packs.Table]:
        """The table of every readable pack."""
        return self._tables

    def sound_place(self, chunk_id: bytes) -> ChunkPlace | None:
        """A place of this chunk in a pack without known damage."""
        return next(
            (place for place in self.places(chunk_id) if place.pack not in self.damaged), None
        )

    def places(self, chunk_id: bytes) -> list[ChunkPlace]:
        return self._places.get(chunk_id, [])

    def reusable(
        self, chunk_id: bytes, generation: int, condemned: frozenset[str]
    ) -> ChunkPlace | None:
        """A place of this chunk that a new backup may rely on."""
        for place in self._places.get(chunk_id, ()):
            if self._tables[place.pack].generation != generation or place.pack in self.damaged:
                continue
            if packs.digest_in_name(place.pack) not in condemned:
                return place
        return None
