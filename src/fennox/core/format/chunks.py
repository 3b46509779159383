"""Chunks: cutting, naming, sealing, opening (§4)."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import dataclass, field

import zstandard
from blake3 import blake3
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from fennox.core.errors import Damaged
from fennox.core.format.primitives.cutting import Sizes, points
from fennox.core.format.primitives.hpke import RandomBytes
from fennox.core.format.primitives.secret import WriteSecret

SUITE = b"\x01"  # BLAKE3-keyed ids and keys, AES-256-GCM, zstd (§4.2)
RAW, ZSTD = 0, 1
_LEVEL = 2  # on chunks of this size both smaller and faster than level 3 (docs/decisions.md)
MAX_CHUNK = 4 * 1024 * 1024  # bytes of plaintext


@dataclass(frozen=True)
class Piece:
    """A plaintext chunk and its name."""

    id: bytes
    key: bytes = field(repr=False)
    plain: bytes | memoryview = field(repr=False)  # a view of the stream, not a copy
    # the sealed chunk, if already made
    sealed: bytes | None = field(default=None, repr=False)


def identify(plain: bytes | memoryview, secret: WriteSecret) -> Piece:
    """Name a chunk so that equal content gets the same name within a key set's generation
    (§4.2).
    """
    return named(plain, secret.chunk_id_key, secret.chunk_key_key)


def named(plain: bytes | memoryview, id_key: bytes, key_key: bytes) -> Piece:
    """As :func:`identify`, with keys already derived."""
    return Piece(blake3(plain, key=id_key).digest(), blake3(plain, key=key_key).digest(), plain)


def identify_apart(plain: bytes | memoryview, random: RandomBytes) -> Piece:
    """A chunk with random name and key: nobody who holds W can test a guess of it (§4.3)."""
    return Piece(random(32), random(32), plain)


class _PerThread(threading.local):
    """Contexts are expensive to make and must not be shared by threads at the same time."""

    def __init__(self) -> None:
        self.compressor = zstandard.ZstdCompressor(level=_LEVEL, write_checksum=False)
        self.decompressor = zstandard.ZstdDecompressor()


_zstd = _PerThread()


def seal(piece: Piece, nonce: bytes) -> bytes:
    packed = _zstd.compressor.compress(piece.plain)
    smaller = len(packed) < len(piece.plain)
    body = b"".join([bytes([ZSTD if smaller else RAW]), packed if smaller else piece.plain])
    return nonce + AESGCM(piece.key).encrypt(nonce, body, SUITE + piece.id)


def open_chunk(sealed: bytes, chunk_id: bytes, key: bytes, plain_length: int) -> bytes:
    """Open one chunk; its length is checked before it is unpacked, its tag before anything leaves
    here.
    """
    if not 0 <= plain_length <= MAX_CHUNK:
        raise Damaged(
            f"Chunk {chunk_id.hex()[:16]} claims {plain_length} bytes.",
            "Heal its pack from another copy.",
        )
    try:
        view = memoryview(sealed)  # avoids a copy
        body = memoryview(AESGCM(key).decrypt(view[:12], view[12:], SUITE + chunk_id))
        if body[0] == RAW:
            plain = bytes(body[1:])
        elif body[0] == ZSTD:
            plain = _zstd.decompressor.decompress(body[1:], max_output_size=max(plain_length, 1))
        else:
            raise ValueError(f"encoding {body[0]}")
        if len(plain) != plain_length:
            raise ValueError(f"{len(plain)} bytes instead of {plain_length}")
    except (InvalidTag, ValueError, IndexError, zstandard.ZstdError) as error:
        raise Damaged(
            f"Chunk {chunk_id.hex()[:16]} is damaged.", "Heal its pack from another copy."
        ) from error
    return plain


def cut(data: bytes, sizes: Sizes) -> Iterator[memoryview]:
    """The pieces of content that is there whole, as :class:`Cutter` cuts them."""
    if len(data) <= sizes[0]:
        if data:
            yield memoryview(data)
        return
    cutter = Cutter(sizes)
    yield from cutter.feed(data)
    yield from cutter.finish()


class Cutter:
    """Cuts a stream by content (§4.1): feed bytes, take pieces; at most twice the largest chunk is
    held.
    """

    def __init__(self, sizes: Sizes) -> None:
        self._points = points(sizes)
        self._largest = sizes[2]
        self._held: list[bytes | memoryview] = []
        self._size = 0

    def feed(self, data: bytes) -> Iterator[memoryview]:
        self._held.append(data)
        self._size += len(data)
        if self._size >= 2 * self._largest:
            yield from self._cut(last=False)

    def finish(self) -> Iterator[memoryview]:
        yield from self._cut(last=True)

    def _cut(self, *, last: bool) -> Iterator[memoryview]:
        view = memoryview(self._held[0] if len(self._held) == 1 else b"".join(self._held))
        done = 0
        for offset, length in self._points(view):
            # A cut never depends on later bytes, so only the cut at the buffer's end is uncertain.
            if not last and offset + length == len(view):
                break
            yield view[offset : offset + length]
            done = offset + length
        self._held, self._size = [view[done:]], len(view) - done
