"""What a take is asked for, what it finds, and what has come of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fennox.core.errors import PersonNeeded
from fennox.core.format import records
from fennox.core.format.manifest import Head, KindFile, Machine, Reached
from fennox.core.kinds.model import Kind
from fennox.engine.backups.backup_reader import Digests
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.pack_writer import Written
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.takes.look import Plain
from fennox.engine.takes.unchanged_machine import Before, RecordPlace


@dataclass(frozen=True)
class Subject:
    """The system as a run knows it: its kind, settings, and the machine id it had the last time
    (empty: never).
    """

    id: str
    name: str
    folder: str
    kind: Kind
    kind_file: KindFile
    settings: dict[str, str]
    machine_id: str
    reached: Reached


@dataclass(frozen=True)
class TakeRequest:
    """What was fixed when the run was queued (store-format §9.1). ``time`` as in names."""

    backup: str
    run: str
    attempt: int
    time: str
    sequence: int
    previous: records.Previous | None
    name: str = ""
    note: str = ""
    routine: str | None = None
    parts: list[str] | None = None
    purpose: records.Purpose = "backup"
    apart: bool = False  # documents with declared secrets under random chunk keys
    trust: bool = False  # by a routine, tried again by itself: what has not moved is taken over
    likeness: str = ""  # how the machine answered when the backup before was taken
    before: RecordPlace | None = None  # where that is
    measure: bool = False  # see by how much the store's clock differs


@dataclass(frozen=True)
class TakeTools:
    """Where a take writes, who hears of it, and the processes that help with long ones."""

    vault: Vault
    index: PackIndex
    journal: Journal
    evaluates: Evaluates
    carvers: Carvers | None = None


@dataclass(frozen=True)
class HandedInDocuments:
    """Documents that a person gave, by their names in the kind, and the machine they are of."""

    machine: Machine
    documents: Mapping[str, bytes]


@dataclass(frozen=True)
class FoundContent:
    """What a backup is to hold. ``count`` and ``bytes`` are of its documents."""

    writer: BackupWriter
    head: Head
    count: int
    bytes: int
    read_whole: str
    documents: Digests
    plain: Plain
    before: Before | None
    likeness: str
    skew: float | None


@dataclass(frozen=True)
class Taken:
    """A backup that exists now."""

    reference: records.Reference
    digest: str
    head: Head
    written: Written
    documents: Digests
    plain: Plain  # what a look compares with
    # it equals the backup before; no document was read, so none is listed here
    as_before: bool = False
    # the machine's answers, by :func:`~fennox.engine.takes.unchanged_machine.likeness`
    likeness: str = ""
    skew: float | None = None  # seconds that the machine's clock is ahead
    store_ahead: float | None = None  # seconds that the store's clock is ahead, where that is known

    @property
    def nothing_new(self) -> bool:
        """No document has content that the store lacked; others may be gone, or have another mode
        or name.
        """
        return self.written.content == 0


def check_same_machine(subject: Subject, machine: Machine) -> None:
    """A changed machine id means reinstalled, replaced or wrong machine; only a person can say
    which.
    """
    if subject.machine_id and machine.id != subject.machine_id:
        raise PersonNeeded(
            f"The machine at {subject.reached.address} says it is {machine.id}; {subject.name} was "
            f"{subject.machine_id} until now.",
            "It was reinstalled, replaced, or this is the wrong machine. If it is the right one,"
            " confirm it.",
            machine=machine.id,
        )
