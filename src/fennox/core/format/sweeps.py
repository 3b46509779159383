"""What a sweep has condemned, and what it removed and why (§11)."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fennox.core.format import records
from fennox.core.format.primitives import canonical
from fennox.core.format.primitives.binary import Reader, blob, u32
from fennox.core.format.primitives.canonical import Stored
from fennox.core.format.primitives.secret import SALT_LENGTH, WriteSecret
from fennox.core.names import ObjectName, object_name

MAGIC = b"FXC\x01"
MAX_SWEEP = 64 * 1024 * 1024  # bytes


class RemovedBackup(Stored):
    """``superseded``: the record of a backup that was resealed under a later key generation.
    ``notes``: number of notes beside the record at that time.
    """

    name: str
    why: str
    system: str = ""
    sequence: int = 0
    superseded: bool = False
    notes: int = Field(default=0, exclude_if=lambda value: not value)


class Sweep(Stored):
    """``condemned``: packs that takes treat as absent. ``removed``: removed records with
    reasons.
    """

    stage: Literal["condemned", "removed", "withdrawn"]
    time: str
    by: str
    condemned: list[str]
    removed: list[RemovedBackup]


def encode(sweep: Sweep, secret: WriteSecret, store: str, salt: bytes) -> bytes:
    start = MAGIC + u32(secret.generation) + salt
    return start + blob(secret.seal(canonical.dump(sweep), "sweep", store, salt, start))


def generation(data: bytes) -> int:
    reader = Reader(data, "sweep list")
    reader.magic(MAGIC)
    return reader.u32()


def decode(data: bytes, secret: WriteSecret, store: str) -> Sweep:
    reader = Reader(data, "sweep list")
    reader.magic(MAGIC)
    reader.u32()
    salt = reader.take(SALT_LENGTH)
    start = data[: reader.position]
    plain = secret.open(reader.blob(MAX_SWEEP), "sweep", store, salt, start)
    reader.end()
    return canonical.load(Sweep, plain, "sweep list")


def condemned_packs(sweeps: list[Sweep]) -> frozenset[str]:
    """Digests of packs that takes treat as absent: condemned and not withdrawn later (§11.2)."""
    packs: set[str] = set()
    for sweep in sorted(sweeps, key=lambda item: item.time):
        if sweep.stage == "withdrawn":
            packs -= set(sweep.condemned)
        else:
            packs |= set(sweep.condemned)
    return frozenset(packs)


def swept_backups(sweeps: list[Sweep]) -> frozenset[str]:
    """Short ids of backups that sweeps removed."""
    items = (
        item
        for sweep in sweeps
        for item in sweep.removed
        if item.name.endswith(".fxr") and not item.superseded
    )
    return frozenset(records.short_id(object_name(item.name)) for item in items)


def name(time: str, random: str) -> ObjectName:
    """§2.1: ``sweep/<UTC time>.<random>.fxc``."""
    return object_name(f"sweep/{time}.{random}.fxc")
