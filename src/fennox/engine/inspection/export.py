"""Export: a backup as a standard archive, with its manifest as JSON beside the documents."""

from __future__ import annotations

import base64
import json
import tarfile
import zlib
from collections.abc import AsyncGenerator, AsyncIterator
from contextlib import aclosing
from typing import Literal

import zstandard

from fennox.core.format.manifest import Document
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.reading.tar_stream import tar_head

Format = Literal["tar.zst", "tar.gz"]
MANIFEST = "MANIFEST.json"


async def export(
    reader: BackupReader, archive: Format, parts: list[str] | None
) -> AsyncGenerator[bytes, None]:
    """The archive as a stream of verified bytes, in bounded memory."""
    packer = _Zstd() if archive == "tar.zst" else zlib.compressobj(6, zlib.DEFLATED, 31)
    async with aclosing(_tar(reader, parts)) as blocks:
        async for block in blocks:
            if packed := packer.compress(block):
                yield packed
    yield packer.flush()


class _Zstd:
    """A zstd stream (RFC 8878) with the two methods of zlib's."""

    def __init__(self) -> None:
        self._stream = zstandard.ZstdCompressor(level=3).compressobj()

    def compress(self, data: bytes) -> bytes:
        return self._stream.compress(data)

    def flush(self) -> bytes:
        return self._stream.flush()


async def _tar(reader: BackupReader, parts: list[str] | None) -> AsyncGenerator[bytes, None]:
    head = await reader.head()
    chosen = [part for part in head.parts if parts is None or part.name in parts]
    listing = json.dumps(
        {
            "backup": json.loads(reader.record.reference.model_dump_json(exclude={"id_list"})),
            "machine": head.machine.model_dump(mode="json"),
            "kind": head.kind.model_dump(mode="json"),
            "census": head.census,
            "findings": [finding.model_dump(mode="json") for finding in head.findings],
            "left_out": head.left_out,
            "parts": [part.name for part in chosen],
        },
        indent=1,
    ).encode()
    async for block in _entry(
        Document(path=MANIFEST, type="output", size=len(listing)), _once(listing)
    ):
        yield block
    for part in chosen:
        async for document in reader.documents(part):
            moved = document.model_copy(
                update={
                    "path": f"{part.name}/{document.path.lstrip('/')}",
                    "raw_path": _below(part.name, document),
                }
            )
            async for block in _entry(moved, reader.content(document)):
                yield block
    yield bytes(tarfile.BLOCKSIZE * 2)


def _below(part: str, document: Document) -> str | None:
    if document.raw_path is None:
        return None
    return base64.b64encode(part.encode() + b"/" + document.path_bytes().lstrip(b"/")).decode()


async def _entry(document: Document, content: AsyncIterator[bytes]) -> AsyncGenerator[bytes, None]:
    yield tar_head(document)
    if document.type in ("file", "output"):
        async for piece in content:
            yield piece
        yield bytes(-document.size % tarfile.BLOCKSIZE)


async def _once(data: bytes) -> AsyncGenerator[bytes, None]:
    yield data
