"""Notes: facts added later about a backup or a system, and how they merge (§10)."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fennox.core.format.primitives import canonical
from fennox.core.format.primitives.binary import Reader, blob, u32
from fennox.core.format.primitives.canonical import Stored
from fennox.core.format.primitives.secret import SALT_LENGTH, WriteSecret
from fennox.core.names import ObjectName, object_name

MAGIC = b"FXN\x01"
MAX_NOTE = 64 * 1024  # bytes

Fact = Literal[
    "hold",
    "release",
    "doubtful",
    "cleared",
    "verified",
    "proved",
    "identity joined",
    "retired",
    "expired",
    "kept",
]


class Note(Stored):
    """``backup`` is empty for a fact about the whole system. ``written``: when this object was
    stored.
    """

    fact: Fact
    backup: str
    system: str
    time: str
    by: str
    reason: str = ""
    until: str | None = None
    details: dict[str, str] = {}
    written: str = Field(default="", exclude_if=lambda value: not value)

    def says(self, other: Note) -> bool:
        """Whether both state the same fact, whatever their dates."""
        return self.model_copy(update={"written": other.written}) == other


class Standing(Stored):
    """The merged facts of one backup's notes."""

    held: bool = False
    held_because: str = ""
    held_until: str | None = None
    doubtful: bool = False
    doubtful_because: str = ""
    expired: bool = False
    verified: str | None = None
    proved: str | None = None


def encode(note: Note, secret: WriteSecret, store: str, salt: bytes) -> bytes:
    start = MAGIC + u32(secret.generation) + salt
    return start + blob(secret.seal(canonical.dump(note), "note", store, salt, start))


def generation(data: bytes) -> int:
    reader = Reader(data, "note")
    reader.magic(MAGIC)
    return reader.u32()


def decode(data: bytes, secret: WriteSecret, store: str) -> Note:
    reader = Reader(data, "note")
    reader.magic(MAGIC)
    reader.u32()
    salt = reader.take(SALT_LENGTH)
    start = data[: reader.position]
    plain = secret.open(reader.blob(MAX_NOTE), "note", store, salt, start)
    reader.end()
    return canonical.load(Note, plain, "note")


def merge(notes: list[Note]) -> Standing:
    """§10.2: in order of time; of two with the same time the safer one counts (hold over release,
    doubt over trust).
    """
    safer_last = {"release": 0, "cleared": 0, "expired": 0, "hold": 1, "doubtful": 1, "kept": 1}
    state: dict[str, object] = {}
    for note in sorted(notes, key=lambda n: (n.time, safer_last.get(n.fact, 0), n.reason)):
        match note.fact:
            case "hold":
                state |= {"held": True, "held_because": note.reason, "held_until": note.until}
            case "release":
                state |= {"held": False, "held_because": "", "held_until": None}
            case "doubtful":
                state |= {"doubtful": True, "doubtful_because": note.reason}
            case "cleared":
                state |= {"doubtful": False, "doubtful_because": ""}
            case "expired":
                state["expired"] = True
            case "kept":
                state["expired"] = False
            case "verified":
                state["verified"] = note.time
            case "proved":
                state["proved"] = note.time
            case "identity joined" | "retired":
                pass  # facts about the system, not about a backup
    return Standing.model_validate(state)


def name(record: ObjectName, random: str) -> ObjectName:
    """§2.1: beside its record: ``systems/<folder>/<UTC time>.<backup name>.<short
    id>.<random>.fxn``.
    """
    return object_name(f"{record.removesuffix('.fxr')}.{random}.fxn")
