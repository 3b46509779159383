"""Reading a backup: yields only verified bytes (store-format §12)."""

from __future__ import annotations

import asyncio
import base64
from collections import OrderedDict, deque
from collections.abc import AsyncIterator
from dataclasses import dataclass, field
from itertools import islice
from typing import Protocol

from fennox.core.errors import Damaged, FennoxError, NotFound
from fennox.core.format import chunks, manifest
from fennox.core.format.manifest import ChunkKey, Document, Head, Outline, Part
from fennox.core.format.primitives import canonical, id_lists
from fennox.core.format.primitives.digest import Digest
from fennox.core.format.records import Record
from fennox.core.format.trees import Level, Ref, Root
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.stores.base import Span

_AHEAD = 6  # chunks of a document read ahead; at most 4 MiB each
_SMALL = 256 * 1024  # bytes; opening a smaller chunk takes less time than starting a thread

Digests = dict[str, dict[str, str]]
"""Part → path → a text that differs if the document differs."""


class Pieces:
    """A cache of read chunks for reading several backups. Keeps the last 64 MiB."""

    _KEPT = 64 * 1024 * 1024  # bytes

    def __init__(self) -> None:
        self._held: OrderedDict[bytes, bytes] = OrderedDict()
        self._size = 0

    def get(self, chunk_id: bytes) -> bytes | None:
        data = self._held.get(chunk_id)
        if data is not None:
            self._held.move_to_end(chunk_id)
        return data

    def keep(self, chunk_id: bytes, data: bytes) -> None:
        self._held[chunk_id] = data
        self._size += len(data)
        while self._size > self._KEPT and len(self._held) > 1:
            self._size -= len(self._held.popitem(last=False)[1])


@dataclass
class BackupReader:
    """Reads one backup. The first valid place of a chunk is used. ``pieces`` may be shared."""

    vault: Vault
    index: PackIndex
    record: Record
    pieces: Pieces | None = None
    _head: Head | None = field(default=None)
    _head_root: Root | None = field(default=None)

    async def chunk(self, chunk_id: bytes, key: bytes, length: int) -> bytes:
        if self.pieces is None:
            return await self._fetched(chunk_id, key, length)
        data = self.pieces.get(chunk_id)
        if data is None:
            data = await self._fetched(chunk_id, key, length)
            self.pieces.keep(chunk_id, data)
        return data

    async def _fetched(self, chunk_id: bytes, key: bytes, length: int) -> bytes:
        fault: FennoxError | None = None
        for place in self.index.places(chunk_id):
            try:
                span = Span(place.entry.offset, place.entry.length)
                sealed = await self.vault.store.get(place.pack, span)
                if length <= _SMALL:
                    return chunks.open_chunk(sealed, chunk_id, key, length)
                return await asyncio.to_thread(chunks.open_chunk, sealed, chunk_id, key, length)
            except (Damaged, NotFound) as error:
                self.index.mark_damaged(place.pack, error.what)
                fault = Damaged(f"{place.pack}: {error.what}", error.remedy)
        raise fault or Damaged(
            f"Chunk {chunk_id.hex()[:16]} is in no pack.", "Heal the store from another copy."
        )

    async def leaves(self, root: Root) -> list[Ref]:
        """The chunks that are the content of a tree."""
        return (await self._levels(root))[-1]

    async def tree(self, root: Root) -> AsyncIterator[bytes]:
        for ref in await self.leaves(root):
            yield await self.chunk(ref.id_bytes(), ref.key_bytes(), ref.length)

    async def _levels(self, root: Root) -> list[list[Ref]]:
        """The references of a tree level by level, from the root down to the content."""
        levels = [root.chunks]
        for _ in range(root.depth):
            level = b"".join(
                [
                    await self.chunk(ref.id_bytes(), ref.key_bytes(), ref.length)
                    for ref in levels[-1]
                ]
            )
            levels.append(canonical.load(Level, level, "tree level").refs)
        return levels

    async def tree_ids(self, root: Root) -> set[bytes]:
        """Every chunk a tree is stored in."""
        return {ref.id_bytes() for level in await self._levels(root) for ref in level}

    async def head(self) -> Head:
        if self._head is None:
            self._head = manifest.decode_head(await self._head_bytes())
        return self._head

    async def outline(self) -> Outline:
        """Parts and lists alone, in a tenth of the time."""
        return manifest.decode_outline(await self._head_bytes())

    async def head_ids(self) -> set[bytes]:
        """Every chunk the head is stored in."""
        return await self.tree_ids(self.head_root)

    @property
    def head_root(self) -> Root:
        if self._head_root is None:
            self._head_root = self.record.open(
                self.vault.opening_key(self.record.reference.generation)
            ).head
        return self._head_root

    async def _head_bytes(self) -> bytes:
        return b"".join([piece async for piece in self.tree(self.head_root)])

    async def needed(self) -> set[bytes]:
        """Every chunk the backup needs, including those of the id list itself. Needs no opening key
        (§8).
        """
        return await self.tree_ids(self.record.reference.id_list) | (await self.id_list()).keys()

    async def id_list(self) -> dict[bytes, str]:
        data = b"".join([piece async for piece in self.tree(self.record.reference.id_list)])
        return id_lists.decode(data)

    async def documents(self, part: Part) -> AsyncIterator[Document]:
        held = b""
        async for piece in self.tree(part.root):
            *lines, held = (held + piece).split(b"\n")
            for line in lines:
                yield manifest.decode_document(line)
        if held:
            raise Damaged(
                f"The manifest of part {part.name} ends in the middle of a line.",
                "Try another copy.",
            )

    async def content(self, document: Document) -> AsyncIterator[bytes]:
        """A document's content, piece by piece. Each piece is verified before it is yielded, and
        the whole at the end.
        """
        digest, size = Digest(), 0
        ahead: deque[asyncio.Task[bytes]] = deque()
        left = iter(document.chunks)
        try:
            while True:
                ahead.extend(
                    asyncio.create_task(self._keyed(key))
                    for key in islice(left, _AHEAD - len(ahead))
                )
                if not ahead:
                    break
                piece = await ahead.popleft()
                digest.update(piece)
                size += len(piece)
                yield piece
        finally:
            for task in ahead:
                task.cancel()
            await asyncio.gather(*ahead, return_exceptions=True)
        if document.digest is not None and (digest.hexdigest(), size) != (
            document.digest,
            document.size,
        ):
            raise Damaged(f"{document.path} is not what was stored.", "Take it from another copy.")

    async def _keyed(self, key: ChunkKey) -> bytes:
        return await self.chunk(bytes.fromhex(key.id), base64.b64decode(key.key), key.length)

    async def part(self, name: str) -> Part:
        found = next((part for part in (await self.head()).parts if part.name == name), None)
        if found is None:
            raise NotFound(
                f"The backup holds no part {name}.",
                "Look at what it holds with `fennox backup show`.",
            )
        return found


class ReadsContent(Protocol):
    """Whatever gives the content of documents."""

    def content(self, document: Document) -> AsyncIterator[bytes]: ...


def digest_of(document: Document) -> str:
    """A fingerprint that differs if content, mode, owner or link target differ."""
    if document.type == "link":
        return f"link {document.link}"
    if document.type == "folder":
        return f"folder {document.mode} {document.uid} {document.gid}"
    return f"{document.digest} {document.mode} {document.uid} {document.gid}"


async def backup_digests(reader: BackupReader, parts: list[str]) -> Digests:
    """A backup's documents as fingerprints, to compare with a machine's."""
    found: Digests = {}
    for part in (await reader.head()).parts:
        if part.name in parts:
            found[part.name] = {d.path: digest_of(d) async for d in reader.documents(part)}
    return found
