"""The id list: every chunk a backup needs, readable with W alone (§8)."""

from __future__ import annotations

from fennox.core.errors import Damaged
from fennox.core.format.primitives.binary import Reader, u32

MAGIC = b"FXI\x01"
MAX_PACKS = 1_000_000


def encode(chunks: dict[bytes, str]) -> bytes:
    """``chunks``: id → digest (hex) of the pack that held it. Sorted, so that the same backup gives
    the same bytes.
    """
    packs = sorted(set(chunks.values()))
    number = {pack: index for index, pack in enumerate(packs)}
    body = b"".join(chunk_id + u32(number[pack]) for chunk_id, pack in sorted(chunks.items()))
    return (
        MAGIC
        + u32(len(packs))
        + b"".join(bytes.fromhex(pack) for pack in packs)
        + u32(len(chunks))
        + body
    )


def decode(data: bytes) -> dict[bytes, str]:
    reader = Reader(data, "id list")
    reader.magic(MAGIC)
    count = reader.u32()
    if count > MAX_PACKS:
        raise Damaged(f"The id list claims {count} packs.", "Heal it from another copy.")
    packs = [reader.take(32).hex() for _ in range(count)]
    chunks: dict[bytes, str] = {}
    for _ in range(reader.u32()):
        chunk_id, index = reader.take(32), reader.u32()
        if index >= len(packs):
            raise Damaged(
                "The id list points to a pack it does not name.", "Heal it from another copy."
            )
        chunks[chunk_id] = packs[index]
    reader.end()
    return chunks
