"""Anchors: what a store held at a time, recorded elsewhere, so that a store that was set back is
detected (§15).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from fennox.core.format.primitives import canonical
from fennox.core.format.primitives.binary import Reader, blob, u32
from fennox.core.format.primitives.canonical import Stored
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.secret import SALT_LENGTH, WriteSecret
from fennox.core.format.sweeps import Sweep
from fennox.core.names import ObjectName, object_name

MAGIC = b"FXA\x01"
MAX_ANCHORS = 64 * 1024 * 1024  # bytes
KEPT = 3  # that of an anchor of another store


class SystemAnchor(Stored):
    """What a store held of one system. ``numbers``: sequence numbers as ranges (first, last).
    ``digest``: over the names of its records and notes (:func:`digest_of`); empty: unknown.
    """

    system: str
    name: str
    folder: str
    numbers: list[tuple[int, int]]
    notes: int
    digest: str


class Anchors(Stored):
    """What one store held at ``time``. ``generation``: key generation of its newest objects."""

    store: str
    time: str
    by: str
    generation: int
    systems: list[SystemAnchor]


@dataclass
class Present:
    """A system's objects in a store: sequence numbers, names of records, and names of notes with
    their dates.
    """

    numbers: set[int] = field(default_factory=set)
    records: set[str] = field(default_factory=set)
    notes: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Loss:
    """What an anchor records of a system, the store lacks, and no sweep list explains."""

    system: str
    name: str
    folder: str
    numbers: list[int]
    notes: int
    exchanged: bool  # the right number of objects, but not the same ones

    def __str__(self) -> str:
        told = []
        if self.numbers:
            many = "records" if len(self.numbers) > 1 else "record"
            told.append(f"{many} {in_words(ranges(self.numbers))} of {self.name}")
        if self.notes:
            told.append(
                f"{self.notes} {'notes' if self.notes > 1 else 'note'} on backups of {self.name}"
            )
        if told:
            verb, them = ("are", "them") if len(self.numbers) + self.notes > 1 else ("is", "it")
            return f"{' and '.join(told)} {verb} gone, and no sweep removed {them}"
        return f"the records and notes of {self.name} are not those that were there"


def ranges(numbers: Iterable[int]) -> list[tuple[int, int]]:
    """Numbers as ranges, first and last included: ``[(1, 4), (6, 6)]``."""
    found: list[tuple[int, int]] = []
    for number in sorted(set(numbers)):
        if found and found[-1][1] == number - 1:
            found[-1] = (found[-1][0], number)
        else:
            found.append((number, number))
    return found


def in_words(found: list[tuple[int, int]]) -> str:
    return ", ".join(str(first) if first == last else f"{first} to {last}" for first, last in found)


def digest_of(names: Iterable[str]) -> str:
    """BLAKE2b-256 of the names, sorted, each ended by LF."""
    return blake2b_256("".join(f"{name}\n" for name in sorted(names)).encode())


def losses(
    anchors: Anchors, present: Mapping[str, Present], swept: Iterable[Sweep], generation: int
) -> list[Loss]:
    """What has disappeared since, by system (§15.3). ``present``: by system. ``generation``: the
    store's newest.
    """
    explained: dict[str, set[int]] = {}
    went: dict[str, int] = {}  # notes removed with their records since
    touched: set[str] = set()
    for sweep in swept:
        for item in sweep.removed:
            if not item.superseded:
                explained.setdefault(item.system, set()).add(item.sequence)
            if sweep.time >= anchors.time:
                went[item.system] = went.get(item.system, 0) + item.notes
                touched.add(item.system)
    found = []
    for anchor in anchors.systems:
        here = present.get(anchor.system, Present())
        known = here.numbers | explained.get(anchor.system, set())
        gone = [
            number
            for first, last in anchor.numbers
            for number in range(first, last + 1)
            if number not in known
        ]
        then = [name for name, put in here.notes.items() if put <= anchors.time]
        notes = max(0, anchor.notes - len(then) - went.get(anchor.system, 0))
        comparable = (
            anchor.digest
            and not gone
            and len(then) == anchor.notes
            and anchor.system not in touched
            and generation == anchors.generation
            and here.numbers == _expanded(anchor)
        )
        exchanged = bool(comparable) and digest_of([*here.records, *then]) != anchor.digest
        if gone or notes or exchanged:
            found.append(Loss(anchor.system, anchor.name, anchor.folder, gone, notes, exchanged))
    return found


def _expanded(anchor: SystemAnchor) -> set[int]:
    return {number for first, last in anchor.numbers for number in range(first, last + 1)}


def encode(anchors: Anchors, secret: WriteSecret, store: str, salt: bytes) -> bytes:
    """``store``: the store they are written to."""
    start = MAGIC + u32(secret.generation) + salt
    return start + blob(secret.seal(canonical.dump(anchors), "anchor", store, salt, start))


def generation(data: bytes) -> int:
    reader = Reader(data, "anchor")
    reader.magic(MAGIC)
    return reader.u32()


def decode(data: bytes, secret: WriteSecret, store: str) -> Anchors:
    reader = Reader(data, "anchor")
    reader.magic(MAGIC)
    reader.u32()
    salt = reader.take(SALT_LENGTH)
    start = data[: reader.position]
    plain = secret.open(reader.blob(MAX_ANCHORS), "anchor", store, salt, start)
    reader.end()
    return canonical.load(Anchors, plain, "anchor")


def name(anchors: Anchors, random: str) -> ObjectName:
    """§2.1: ``anchors/<short id of the store it describes>.<UTC time>.<random>.fxa``."""
    return object_name(f"anchors/{anchors.store[:8]}.{anchors.time}.{random}.fxa")
