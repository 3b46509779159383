"""Writing a backup: content into chunks, chunks into packs, and the record last (store-format
§13).
"""

from __future__ import annotations

import asyncio
import base64
from collections import deque
from collections.abc import (
    AsyncIterable,
    AsyncIterator,
    Awaitable,
    Callable,
    Collection,
    Iterable,
    Iterator,
    Mapping,
)
from dataclasses import dataclass, field
from datetime import datetime

from fennox.core.errors import Conflict
from fennox.core.format import chunks, packs, records
from fennox.core.format.carving import Carved, Recipe
from fennox.core.format.chunks import Cutter, Piece
from fennox.core.format.manifest import ChunkKey, Document, Head, Part, Sealed, encode_documents
from fennox.core.format.primitives import canonical, id_lists
from fennox.core.format.primitives.digest import Digest, blake2b_256
from fennox.core.format.trees import EMPTY, MAX_ROOT, Level, Ref, Root
from fennox.core.names import ObjectName
from fennox.engine.backups import confirmation
from fennox.engine.backups.confirmation import Sample
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.stores.base import Span

_PACK_TARGET = 8 * 1024 * 1024  # bytes of sealed chunks before a pack is written
_BATCH = 512 * 1024  # bytes of chunks that go to a thread together to be sealed
_READ_BACK_WHOLE = 1024 * 1024  # bytes; of a take that wrote more, one chunk a pack is read back
_AT_ONCE = 4  # batches that are sealed while the content goes on being read
_SMALL = 128 * 1024  # bytes; less is cut and named without leaving the event loop
_LARGE_FROM = 32 * 1024 * 1024  # bytes; longer documents are cut into larger chunks


@dataclass
class Written:
    """What has been added to the store so far."""

    chunks: int = 0
    content: int = 0  # of the chunks, those of documents and not of the manifest
    bytes: int = 0
    objects: int = 0


@dataclass(frozen=True)
class Content:
    """A document's content as stored."""

    chunks: list[ChunkKey]
    size: int
    digest: str


@dataclass
class BackupWriter:
    """Adds the content of one backup. Nothing counts until :meth:`commit` has put the record."""

    vault: Vault
    index: PackIndex
    condemned: frozenset[str]
    written: Written = field(default_factory=Written)
    _pending: dict[bytes, tuple[bytes, int]] = field(default_factory=dict)
    _pending_bytes: int = 0
    _used: dict[bytes, str] = field(default_factory=dict)
    _kept: int = 0  # chunks that came
    _new: int = 0  # chunks of them that the store lacked
    _batch: list[Piece] = field(default_factory=list)
    _batch_bytes: int = 0
    _sealing: deque[tuple[list[Piece], asyncio.Task[list[bytes]]]] = field(default_factory=deque)
    _coming: set[bytes] = field(default_factory=set)  # ids of chunks that are in a batch
    _leaving: frozenset[bytes] = frozenset()  # ids of chunks in the pack that is on its way
    _writing: asyncio.Task[None] | None = None
    _own: dict[ObjectName, Sample] = field(
        default_factory=dict
    )  # packs that this writer has written

    async def add_content(
        self, stream: AsyncIterable[bytes], *, expected: int = 0, apart: bool = False
    ) -> Content:
        """Store one document. ``apart``: under random chunk keys, so that a guess of it cannot be
        tested (§4.3).
        """
        before = self._new
        content = await self._cut_and_kept(stream, expected, apart)
        self.written.content += self._new - before
        return content

    async def add_whole(self, data: bytes, *, apart: bool = False) -> Content:
        """Store a document that is there whole. Short ones are not worth a thread, which has to
        wait for the others.
        """
        before = self._new
        pieces = self._named(chunks.cut(data, self.vault.header.chunking.small), apart)
        content = Content(await self._keep(list(pieces)), len(data), blake2b_256(data))
        self.written.content += self._new - before
        return content

    def recipe(self) -> Recipe:
        """How contents are carved elsewhere for this backup: sealed as well, while most of what
        comes is new.
        """
        secret, sizes = self.vault.secret, self.vault.header.chunking.small
        return Recipe(secret.chunk_id_key, secret.chunk_key_key, sizes, self._new * 2 > self._kept)

    async def add_carved(self, data: bytes, carved: Carved) -> Content:
        """Store a document that was carved elsewhere, by this writer's recipe."""
        before, plain, pieces, at = self._new, memoryview(data), [], 0
        for cut in carved.cuts:
            pieces.append(Piece(cut.id, cut.key, plain[at : at + cut.length], cut.sealed))
            at += cut.length
        content = Content(await self._keep(pieces), len(data), carved.digest)
        self.written.content += self._new - before
        return content

    def _named(self, cuts: Iterable[memoryview], apart: bool) -> Iterator[Piece]:
        for plain in cuts:
            yield (
                chunks.identify_apart(plain, self.vault.random)
                if apart
                else chunks.identify(plain, self.vault.secret)
            )

    async def _cut_and_kept(
        self, stream: AsyncIterable[bytes], expected: int = 0, apart: bool = False
    ) -> Content:
        chunking = self.vault.header.chunking
        cutter = Cutter(chunking.large if expected >= _LARGE_FROM else chunking.small)
        digest, size, keys = Digest(), 0, []
        async for block in stream:
            size += len(block)
            if len(block) > _SMALL:
                _, pieces = await asyncio.gather(
                    asyncio.to_thread(digest.update, block),
                    self._pieces(cutter.feed(block), apart, len(block)),
                )
            else:
                digest.update(block)
                pieces = await self._pieces(cutter.feed(block), apart, len(block))
            keys += await self._keep(pieces)
        keys += await self._keep(await self._pieces(cutter.finish(), apart, 0))
        return Content(keys, size, digest.hexdigest())

    async def _pieces(self, cuts: Iterable[memoryview], apart: bool, amount: int) -> list[Piece]:
        named = self._named(cuts, apart)
        return await asyncio.to_thread(list, named) if amount > 65536 else list(named)

    async def _keep(self, pieces: list[Piece]) -> list[ChunkKey]:
        """Have those sealed that the store lacks; in packs they keep the order in which they
        came.
        """
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
        """Take the oldest batch into the pack that is being filled."""
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
        """Store a chunk as it was sealed elsewhere in the key set, unless the store has it already
        (§13.6).
        """
        if chunk_id in self._used or self._packed(chunk_id):
            return
        if not self.holds(chunk_id):
            await self._add(chunk_id, sealed, plain_length)

    def _packed(self, chunk_id: bytes) -> bool:
        """Whether a chunk lies in the pack that is being filled or in the one on its way."""
        return chunk_id in self._pending or chunk_id in self._leaving

    def holds(self, chunk_id: bytes) -> bool:
        """Whether the store holds a chunk in a pack that may be relied on; from then on this backup
        relies on it.
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
        """Hand the pending chunks to the store as one pack; the content goes on being read while it
        is written.
        """
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
        """Wait for the pack on its way; what went wrong with it is raised here."""
        writing, self._writing = self._writing, None
        if writing is not None:
            await writing

    async def add_part(self, name: str, title: str, documents: list[Document]) -> Part:
        """Store a part's manifest lines, sorted by path (§7.2)."""
        ordered = sorted(documents, key=lambda document: document.path_bytes())
        root = await self._tree(_each(encode_documents(ordered)))
        total = sum(document.size for document in ordered)
        return Part(name=name, title=title, documents=len(ordered), bytes=total, root=root)

    async def _tree(self, stream: AsyncIterable[bytes]) -> Root:
        content = await self._cut_and_kept(stream)
        refs = [Ref(id=key.id, key=key.key, length=key.length) for key in content.chunks]
        depth = 0
        while len(refs) > MAX_ROOT:
            level = await self._cut_and_kept(_each([canonical.dump(Level(refs=refs))]))
            refs = [Ref(id=key.id, key=key.key, length=key.length) for key in level.chunks]
            depth += 1
        return Root(depth=depth, chunks=refs) if refs else EMPTY

    async def seal_manifest(self, head: Head, backup: str) -> tuple[Root, bytes]:
        """Store head and id list; returns the id list's root and the sealed section for the
        record.
        """
        head_root = await self._tree(_each([canonical.dump(head)]))
        await self.flush()
        content = id_lists.encode(self._used)
        id_root = await self._tree(_each([content]))
        await self.flush()
        id_root = id_root.model_copy(
            update={
                "chunks": [
                    ref.model_copy(update={"pack": self._used[ref.id_bytes()]})
                    for ref in id_root.chunks
                ]
            }
        )
        return id_root, self._sealed_section(head_root, backup)

    def seal_as_before(
        self, head: Root, id_list: Root, ids: Mapping[bytes, str], backup: str
    ) -> tuple[Root, bytes] | None:
        """As :meth:`seal_manifest`, of a backup that is to hold what another holds; nothing need be
        written for that.

        ``head``, ``id_list``: of that other one; ``ids``: what its id list says. None: something
        lies elsewhere now.
        """
        if not self.rely_on(ids.keys()) or self._used != ids or id_list.depth:
            return None
        if not all(
            self.holds(ref.id_bytes()) and self._used[ref.id_bytes()] == ref.pack
            for ref in id_list.chunks
        ):
            return None
        return id_list, self._sealed_section(head, backup)

    def _sealed_section(self, head: Root, backup: str) -> bytes:
        header = self.vault.header
        return records.seal_section(
            Sealed(head=head), header.public(), self.vault.id, header.generation, backup
        )

    async def confirm(self) -> None:
        """After the last pack and before the record: all of it can be read. Raises
        :class:`confirming.PacksGone`.
        """
        await confirmation.see_packs(
            self.vault.store, self.index, set(self._used.values()), self._own
        )
        whole = self.written.bytes <= _READ_BACK_WHOLE
        await confirmation.read_back(self.vault.store, self.index, self._own, whole=whole)

    def relies_on(self, condemned: frozenset[str]) -> bool:
        """Whether any chunk of this backup lies in a condemned pack (store-format §13.3)."""
        return not condemned.isdisjoint(self._used.values())

    async def commit(
        self, reference: records.Reference, sealed: bytes, check: Callable[[], Awaitable[None]]
    ) -> bytes:
        """Put the record, which makes the backup exist, and read it back. Returns its bytes.

        ``check``: raises if the run is no longer ours; asked last, as what comes before it may take
        long.
        """
        await self.confirm()
        data = records.encode(
            reference, sealed, self.vault.secret, self.vault.id, self.vault.salt()
        )
        name = self.vault.record_name(reference)
        await self._lock_packs()
        await check()
        try:
            await self.vault.put(name, data)
        except Conflict:
            there = await self.vault.read_record(name)
            if there.reference.backup != reference.backup:
                raise
            return await self.vault.store.get(name)
        await self.vault.read_record(name)
        self.written.objects += 1
        self.written.bytes += len(data)
        return data

    async def _lock_packs(self) -> None:
        """Every pack this backup relies on stays locked at least as long as its record (§14.2).

        A pack's lock is half as long again, so that one that is used every night is extended twice
        in a lock's time.
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


def _seen(task: asyncio.Task[None]) -> None:
    """A run that ended for another reason does not wait for its last pack; its error is then
    nobody's news.
    """
    if not task.cancelled():
        task.exception()


async def _each(items: Iterable[bytes]) -> AsyncIterator[bytes]:
    for item in items:
        yield item
