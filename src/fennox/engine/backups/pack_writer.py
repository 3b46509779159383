"""Sealed chunks into packs, and packs into the store (store-format §5)."""

from __future__ import annotations

import asyncio
import base64
from collections import deque
from collections.abc import (
    Collection,
)
from dataclasses import dataclass, field
from datetime import datetime

from fennox.core.format import chunks, packs
from fennox.core.format.chunks import Piece
from fennox.core.format.manifest import ChunkKey
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.names import ObjectName
from fennox.engine.backups.confirmation import Sample
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.stores.base import Span

_PACK_TARGET = 8 * 1024 * 1024  # bytes of sealed chunks before a pack is written
_BATCH = 512 * 1024  # bytes of chunks sealed together in one thread
READ_BACK_WHOLE = 1024 * 1024  # bytes; if a take wrote more, only one chunk per pack is read back
_AT_ONCE = 4  # batches sealed while reading continues


@dataclass
class Written:
    """Totals added to the store so far."""

    chunks: int = 0
    content: int = 0  # chunks of documents, without the manifest's
    bytes: int = 0
    objects: int = 0


def _seen(task: asyncio.Task[None]) -> None:
    """A run that ended for another reason does not wait for its last pack; that pack's error is
    dropped.
    """
    if not task.cancelled():
        task.exception()


@dataclass
class PackWriter:
    """Writes the packs of one backup; chunks that the store holds already are not written again."""

    vault: Vault
    index: PackIndex
    condemned: frozenset[str]
    written: Written = field(default_factory=Written)
    _pending: dict[bytes, tuple[bytes, int]] = field(default_factory=dict)
    _pending_bytes: int = 0
    _used: dict[bytes, str] = field(default_factory=dict)
    _kept: int = 0  # chunks received
    _new: int = 0  # of these, chunks the store lacked
    _batch: list[Piece] = field(default_factory=list)
    _batch_bytes: int = 0
    _sealing: deque[tuple[list[Piece], asyncio.Task[list[bytes]]]] = field(default_factory=deque)
    _coming: set[bytes] = field(default_factory=set)  # ids of chunks in a batch
    _leaving: frozenset[bytes] = frozenset()  # ids of chunks in the pack being written
    _writing: asyncio.Task[None] | None = None
    # packs written by this writer
    _own: dict[ObjectName, Sample] = field(default_factory=dict)

    async def _keep(self, pieces: list[Piece]) -> list[ChunkKey]:
        """Seal the chunks the store lacks; packs keep their order of arrival."""
        self._kept += len(pieces)
        for piece in pieces:
            known = piece.id in self._used or piece.id in self._coming or self._packed(piece.id)
            if not known and not self.holds(piece.id):
                self._coming.add(piece.id)
                self._new += 1
                self._batch.append(piece)
                self._batch_bytes += len(piece.plain)
                if self._batch_bytes >= _BATCH:
                    await self._seal_batch()
        return [
            ChunkKey(
                id=piece.id.hex(), key=base64.b64encode(piece.key).decode(), length=len(piece.plain)
            )
            for piece in pieces
        ]

    async def _seal_batch(self) -> None:
        batch, self._batch, self._batch_bytes = self._batch, [], 0
        self._sealing.append((batch, asyncio.create_task(self._sealed(batch))))
        while len(self._sealing) > _AT_ONCE:
            await self._collect()

    async def _sealed(self, batch: list[Piece]) -> list[bytes]:
        done = [piece.sealed for piece in batch if piece.sealed is not None]
        if len(done) == len(batch):
            return done
        nonces = [self.vault.random(12) for _ in batch]

        def seal_all() -> list[bytes]:
            return [
                piece.sealed or chunks.seal(piece, nonce)
                for piece, nonce in zip(batch, nonces, strict=True)
            ]

        return await asyncio.to_thread(seal_all)

    async def _collect(self) -> None:
        """Add the oldest batch to the pack being filled."""
        batch, sealing = self._sealing.popleft()
        for piece, sealed in zip(batch, await sealing, strict=True):
            await self._add(piece.id, sealed, len(piece.plain))
            self._coming.discard(piece.id)

    async def _add(self, chunk_id: bytes, sealed: bytes, plain_length: int) -> None:
        if self._pending_bytes + len(sealed) > _PACK_TARGET:
            await self._write_pack()
        self._pending[chunk_id] = (sealed, plain_length)
        self._pending_bytes += len(sealed)

    async def add_sealed(self, chunk_id: bytes, sealed: bytes, plain_length: int) -> None:
        """Store a chunk already sealed in another store of the key set, unless this store has it
        (§13.6).
        """
        if chunk_id in self._used or self._packed(chunk_id):
            return
        if not self.holds(chunk_id):
            await self._add(chunk_id, sealed, plain_length)

    def _packed(self, chunk_id: bytes) -> bool:
        """Whether a chunk is in the pack being filled or being written."""
        return chunk_id in self._pending or chunk_id in self._leaving

    def holds(self, chunk_id: bytes) -> bool:
        """Whether the store holds a chunk in a reliable pack; if so, this backup now relies on
        it.
        """
        place = self.index.reusable(chunk_id, self.vault.header.generation, self.condemned)
        if place is not None:
            self._used[chunk_id] = packs.digest_in_name(place.pack)
        return place is not None

    def rely_on(self, chunk_ids: Collection[bytes]) -> bool:
        """Rely on all of these, or on none if one of them cannot be relied on."""
        generation = self.vault.header.generation
        if any(
            self.index.reusable(chunk_id, generation, self.condemned) is None
            for chunk_id in chunk_ids
        ):
            return False
        return all(map(self.holds, chunk_ids))

    async def flush(self) -> None:
        """Write what is pending, and wait until every pack is in the store."""
        if self._batch:
            await self._seal_batch()
        while self._sealing:
            await self._collect()
        await self._write_pack()
        await self._arrived()

    async def _write_pack(self) -> None:
        """Hand the pending chunks to the store as one pack; reading continues meanwhile."""
        await self._arrived()
        if not self._pending:
            return
        listed = [
            (chunk_id, sealed, length) for chunk_id, (sealed, length) in self._pending.items()
        ]
        self._leaving = frozenset(self._pending)
        self._pending.clear()
        self._pending_bytes = 0
        self._writing = asyncio.create_task(self._put_pack(listed))
        self._writing.add_done_callback(_seen)

    async def _put_pack(self, listed: list[tuple[bytes, bytes, int]]) -> None:
        secret, salt, month = (
            self.vault.secret,
            self.vault.salt(),
            self.vault.now().strftime("%Y-%m"),
        )

        def encode() -> tuple[ObjectName, bytes, packs.Table]:
            data, entries = packs.encode(listed, secret, self.vault.id, salt)
            return packs.name(data, month), data, packs.Table(secret.generation, entries)

        name, data, table = await asyncio.to_thread(encode)
        listed.clear()
        digest = packs.digest_in_name(name)
        self._used |= {entry.id: digest for entry in table.entries}
        self._leaving = frozenset()
        until = self._pack_lock_end()
        chosen = table.entries[int.from_bytes(self.vault.random(4)) % len(table.entries)]
        sealed = data[chosen.offset : chosen.offset + chosen.length]
        self._own[name] = Sample(Span(chosen.offset, chosen.length), blake2b_256(sealed))
        await self.vault.store.put(name, data, retain_until=until)
        self.index.add(name, table)
        if until is not None:
            self.index.locks[name] = until
        self.written.chunks += len(table.entries)
        self.written.bytes += len(data)
        self.written.objects += 1

    async def _arrived(self) -> None:
        """Wait for the pack being written; raises its error."""
        writing, self._writing = self._writing, None
        if writing is not None:
            await writing

    async def _lock_packs(self) -> None:
        """Every pack this backup relies on stays locked at least as long as its record (§14.2).

        A pack's lock lasts 50 % longer, so that a pack in nightly use is extended only twice per
        lock period.
        """
        until, longer = self.vault.lock_end(), self._pack_lock_end()
        if until is None or longer is None:
            return
        used = set(self._used.values())
        for name in self.index.packs:
            if packs.digest_in_name(name) not in used:
                continue
            if name not in self.index.locks:
                self.index.locks[name] = (
                    await self.vault.store.locked_until(name) or self.vault.now()
                )
            if self.index.locks[name] < until:
                await self.vault.store.extend_lock(name, longer)
                self.index.locks[name] = longer

    def _pack_lock_end(self) -> datetime | None:
        end, lock = self.vault.lock_end(), self.vault.store.lock
        return end + lock / 2 if end is not None and lock is not None else None
