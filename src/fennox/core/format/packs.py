"""Packs: a sealed table and then sealed chunks (§6)."""

from __future__ import annotations

from dataclasses import dataclass

from fennox.core.errors import Damaged
from fennox.core.format.primitives.binary import Reader, blob, u32
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.secret import SALT_LENGTH, WriteSecret
from fennox.core.names import ObjectName, object_name

MAGIC = b"FXP\x01"
MAX_PACK = 32 * 1024 * 1024  # bytes
ENTRY = 32 + 4 + 4 + 4
MAX_TABLE = 8 * 1024 * 1024  # bytes; 180,000 chunks
FIXED = len(MAGIC) + 4 + SALT_LENGTH + 4  # bytes before the sealed table


@dataclass(frozen=True)
class PackEntry:
    """Where a chunk lies: offset and length within the pack file, and its plain length, in
    bytes.
    """

    id: bytes
    offset: int
    length: int
    plain_length: int


@dataclass(frozen=True)
class Table:
    generation: int
    entries: tuple[PackEntry, ...]


def encode(
    chunks: list[tuple[bytes, bytes, int]], secret: WriteSecret, store: str, salt: bytes
) -> tuple[bytes, tuple[PackEntry, ...]]:
    """Build a pack of (id, sealed chunk, plain length) and say where each chunk lies in it."""
    table_length = 4 + ENTRY * len(chunks) + 16
    at = FIXED + table_length
    table = bytearray(u32(len(chunks)))
    entries = []
    for chunk_id, sealed, plain_length in chunks:
        entries.append(PackEntry(chunk_id, at, len(sealed), plain_length))
        table += chunk_id + u32(at) + u32(len(sealed)) + u32(plain_length)
        at += len(sealed)
    start = MAGIC + u32(secret.generation) + salt
    head = start + blob(secret.seal(bytes(table), "pack table", store, salt, start))
    # joined once: this is the largest object in memory
    data = b"".join([head, *(sealed for _, sealed, _ in chunks)])
    if len(data) > MAX_PACK:
        raise ValueError(f"a pack of {len(data)} bytes is over the limit")
    return data, tuple(entries)


def table_length(start: bytes) -> int:
    """Bytes to read from the file's beginning for its whole table, computed from its first
    ``FIXED`` bytes.
    """
    reader = Reader(start, "pack")
    reader.magic(MAGIC)
    reader.u32()
    reader.take(SALT_LENGTH)
    length = reader.u32()
    if length > MAX_TABLE:
        raise Damaged(f"A pack claims a table of {length} bytes.", "Heal it from another copy.")
    return FIXED + length


def generation(start: bytes) -> int:
    reader = Reader(start, "pack")
    reader.magic(MAGIC)
    return reader.u32()


def decode_table(start: bytes, secret: WriteSecret, store: str, file_size: int) -> Table:
    """Open the table; every entry must lie within the file and after the table, without overlap."""
    reader = Reader(start, "pack table")
    reader.magic(MAGIC)
    found = reader.u32()
    if found != secret.generation:
        raise Damaged(f"The pack is of generation {found}.", "Read it with that generation's keys.")
    salt = reader.take(SALT_LENGTH)
    sealed = reader.blob(MAX_TABLE)
    aad = MAGIC + u32(found) + salt
    table = Reader(secret.open(sealed, "pack table", store, salt, aad), "pack table")
    entries = []
    at = FIXED + len(sealed)
    for _ in range(table.u32()):
        entry = PackEntry(table.take(32), table.u32(), table.u32(), table.u32())
        if entry.offset != at:
            raise Damaged(
                "A pack table has a gap or an overlap.", "Heal the pack from another copy."
            )
        at += entry.length
        entries.append(entry)
    table.end()
    if at != file_size:
        raise Damaged(
            f"The pack has {file_size} bytes where its table says {at}.",
            "Heal it from another copy.",
        )
    return Table(found, tuple(entries))


def file_size(table: Table) -> int:
    """Size in bytes of the pack with this table: it ends with its last chunk."""
    last = table.entries[-1]
    return last.offset + last.length


def name(data: bytes, month: str) -> ObjectName:
    """§2.1: ``packs/<year-month>/<BLAKE2b-256 of the file>.fxp``."""
    return object_name(f"packs/{month}/{blake2b_256(data)}.fxp")


def digest_in_name(pack: str) -> str:
    return pack.rsplit("/", 1)[-1].removesuffix(".fxp")


def check_digest(data: bytes, pack: str) -> None:
    """The digest that ``b2sum -l 256`` prints (RFC 7693)."""
    if blake2b_256(data) != digest_in_name(pack):
        raise Damaged(f"{pack} does not have the digest in its name.", "Heal it from another copy.")
