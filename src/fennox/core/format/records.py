"""Records: one backup each, written last; the record is the commit (§9)."""

from __future__ import annotations

import hmac
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from fennox.core.errors import Damaged
from fennox.core.format.manifest import Sealed
from fennox.core.format.primitives import canonical
from fennox.core.format.primitives.binary import Reader, blob, u32
from fennox.core.format.primitives.canonical import Stored
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import OpeningKey, SealKey
from fennox.core.format.primitives.secret import SALT_LENGTH, WriteSecret
from fennox.core.format.trees import Root
from fennox.core.names import ObjectName, object_name

MAGIC = b"FXR\x01"
MAX_RECORD = 1024 * 1024  # bytes
MAC_LENGTH = 32


Purpose = Literal["backup", "safety"]


class Previous(Stored):
    """The system's previous backup and the digest of its record."""

    backup: str
    digest: str


class Sizes(Stored):
    documents: int
    bytes: int
    new_chunks: int
    new_bytes: int


class Reference(Stored):
    """The reference section, sealed under W: what a sweep, a copy and an adoption need (§9.1)."""

    backup: str
    run: str
    attempt: int
    system: str
    system_name: str
    folder: str
    kind: str
    name: str
    note: str
    purpose: Purpose
    time: str
    sequence: Annotated[int, Field(ge=1)]
    previous: Previous | None
    parts: list[str]
    partial: bool
    routine: str | None
    generation: int
    origin: str  # the store for which the sealed section was sealed (§9.3)
    id_list: Root
    sizes: Sizes
    sealed_digest: str
    read_whole: str | None = None  # when the whole content was last read from the machine (§9.6)


@dataclass(frozen=True)
class Record:
    reference: Reference
    sealed: bytes
    digest: str

    def open(self, opening: OpeningKey) -> Sealed:
        info = sealed_info(self.reference.origin, self.reference.generation, self.reference.backup)
        return canonical.load(Sealed, opening.open(self.sealed, info), "sealed section")


def sealed_info(store: str, generation: int, backup: str) -> bytes:
    """HPKE ``info`` of the sealed section (§9.2)."""
    return f"fennox-store/1|record|{store}|{generation}|{backup}".encode("ascii")


def seal_section(sealed: Sealed, key: SealKey, store: str, generation: int, backup: str) -> bytes:
    return key.seal(canonical.dump(sealed), sealed_info(store, generation, backup))


def encode(
    reference: Reference, sealed: bytes, secret: WriteSecret, store: str, salt: bytes
) -> bytes:
    start = MAGIC + u32(secret.generation) + salt
    data = (
        start
        + blob(secret.seal(canonical.dump(reference), "record", store, salt, start))
        + blob(sealed)
    )
    return data + secret.mac(data)


def generation(data: bytes) -> int:
    reader = Reader(data, "record")
    reader.magic(MAGIC)
    return reader.u32()


def decode(data: bytes, secret: WriteSecret, store: str) -> Record:
    """Check the MAC over everything, then open the reference section; nothing is trusted before
    (§9.4).
    """
    if len(data) > MAX_RECORD:
        raise Damaged(f"A record of {len(data)} bytes is too long.", "Heal it from another copy.")
    if not hmac.compare_digest(secret.mac(data[:-MAC_LENGTH]), data[-MAC_LENGTH:]):
        raise Damaged(
            "The record's MAC does not fit.", "It was changed or cut; heal it from another copy."
        )
    reader = Reader(data[:-MAC_LENGTH], "record")
    reader.magic(MAGIC)
    reader.u32()
    salt = reader.take(SALT_LENGTH)
    start = data[: reader.position]
    reference = canonical.load(
        Reference,
        secret.open(reader.blob(MAX_RECORD), "record", store, salt, start),
        "record's reference section",
    )
    sealed = reader.blob(MAX_RECORD)
    reader.end()
    if blake2b_256(sealed) != reference.sealed_digest:
        raise Damaged("The record's sealed section was exchanged.", "Heal it from another copy.")
    return Record(reference, sealed, blake2b_256(data))


def name(reference: Reference, *, plain_names: bool) -> ObjectName:
    """§2.1: ``systems/<folder>/<UTC time>.<backup name>.<short id>.fxr``; without plain names only
    ids appear. From the second key generation on, ``.g<generation>`` precedes the ending, so that a
    resealed record gets its own name beside the old one.
    """
    shown = reference.name if plain_names else ""
    return name_of(reference.folder, reference.time, shown, reference.backup, reference.generation)


def name_of(folder: str, time: str, shown: str, backup: str, generation: int) -> ObjectName:
    """As :func:`name`, from its components; ``shown``: the backup's name if names are plain."""
    newer = f".g{generation}" if generation > 1 else ""
    return object_name(f"systems/{folder}/{time}.{shown or 'backup'}.{backup[:8]}{newer}.fxr")


def short_id(record: ObjectName) -> str:
    """The short backup id in the name of a record or note; empty for other names."""
    words = record.rsplit("/", 1)[-1].split(".")
    return words[2] if len(words) in (4, 5, 6) else ""


def newest_generations(found: Iterable[Record]) -> list[Record]:
    """Each backup's record of the newest generation. Older ones were resealed and await a sweep."""
    newest: dict[str, Record] = {}
    for record in found:
        held = newest.get(record.reference.backup)
        if held is None or held.reference.generation < record.reference.generation:
            newest[record.reference.backup] = record
    return list(newest.values())


def check_name(record: Record, found: str, *, plain_names: bool) -> None:
    """Names outside are hints; a name that contradicts its record is damage (§2.3)."""
    expected = name(record.reference, plain_names=plain_names)
    if found != expected:
        raise Damaged(
            f"{found} holds the record that belongs at {expected}.",
            "Put it back under its own name.",
        )
