"""Writing a backup: content into chunks, chunks into packs, and the record last (store-format
§13).
"""

from __future__ import annotations

import asyncio
from collections.abc import (
    AsyncIterable,
    AsyncIterator,
    Awaitable,
    Callable,
    Iterable,
    Iterator,
    Mapping,
)
from dataclasses import dataclass

from fennox.core.errors import Conflict
from fennox.core.format import chunks, records
from fennox.core.format.carving import Carved, Recipe
from fennox.core.format.chunks import Cutter, Piece
from fennox.core.format.manifest import ChunkKey, Document, Head, Part, Sealed, encode_documents
from fennox.core.format.primitives import canonical, id_lists
from fennox.core.format.primitives.digest import Digest, blake2b_256
from fennox.core.format.trees import EMPTY, MAX_ROOT, Level, Ref, Root
from fennox.engine.backups import confirmation
from fennox.engine.backups.pack_writer import READ_BACK_WHOLE, PackWriter

_SMALL = 128 * 1024  # bytes; shorter content is carved on the event loop
_LARGE_FROM = 32 * 1024 * 1024  # bytes; longer documents are cut into larger chunks


@dataclass(frozen=True)
class Content:
    """The stored form of a document's content."""

    chunks: list[ChunkKey]
    size: int
    digest: str


@dataclass
class BackupWriter(PackWriter):
    """Adds the content of one backup. Nothing counts until :meth:`commit` has put the record."""

    async def add_content(
        self, stream: AsyncIterable[bytes], *, expected: int = 0, apart: bool = False
    ) -> Content:
        """Store one document. ``apart``: under random chunk keys, so that nobody can test a guess
        of its content (§4.3).
        """
        before = self._new
        content = await self._cut_and_kept(stream, expected, apart)
        self.written.content += self._new - before
        return content

    async def add_whole(self, data: bytes, *, apart: bool = False) -> Content:
        """Store a document held in memory. Short ones are not worth the overhead of a thread."""
        before = self._new
        pieces = self._named(chunks.cut(data, self.vault.header.chunking.small), apart)
        content = Content(await self._keep(list(pieces)), len(data), blake2b_256(data))
        self.written.content += self._new - before
        return content

    def recipe(self) -> Recipe:
        """How other processes carve contents for this backup; they also seal while most content is
        new.
        """
        secret, sizes = self.vault.secret, self.vault.header.chunking.small
        return Recipe(secret.chunk_id_key, secret.chunk_key_key, sizes, self._new * 2 > self._kept)

    async def add_carved(self, data: bytes, carved: Carved) -> Content:
        """Store a document carved by another process with this writer's recipe."""
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
        """As :meth:`seal_manifest`, for a backup with the same content as another; nothing needs to
        be written. ``head``, ``id_list``: of the other backup; ``ids``: content of its id list.
        None: some chunk has moved.
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
        """After the last pack and before the record: verify that everything can be read. Raises
        :class:`confirming.PacksGone`.
        """
        await confirmation.see_packs(
            self.vault.store, self.index, set(self._used.values()), self._own
        )
        whole = self.written.bytes <= READ_BACK_WHOLE
        await confirmation.read_back(self.vault.store, self.index, self._own, whole=whole)

    def relies_on(self, condemned: frozenset[str]) -> bool:
        """Whether any chunk of this backup lies in a condemned pack (store-format §13.3)."""
        return not condemned.isdisjoint(self._used.values())

    async def commit(
        self, reference: records.Reference, sealed: bytes, check: Callable[[], Awaitable[None]]
    ) -> bytes:
        """Put the record, which makes the backup exist, and read it back. Returns its bytes.

        ``check``: raises if the run is no longer ours; called last, because the steps before may
        take long.
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


async def _each(items: Iterable[bytes]) -> AsyncIterator[bytes]:
    for item in items:
        yield item
