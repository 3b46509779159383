"""The order, the content and the result of a take."""

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
from fennox.engine.drop import Drop
from fennox.engine.journal import Journal
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.takes.look import Plain
from fennox.engine.takes.unchanged_machine import Before, RecordPlace


@dataclass(frozen=True)
class Subject:
    """The system for a run: kind, settings, and last known machine id (empty: none)."""

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
    """Fixed when the run was queued (store-format §9.1). ``time`` as in names."""

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
    apart: bool = False  # store declared secrets under random chunk keys
    trust: bool = False  # taken by a routine: retried by itself, may reuse unchanged files
    likeness: str = ""  # digest of the machine's answers at the previous backup
    before: RecordPlace | None = None  # where that is
    measure: bool = False  # measure the offset of the store's clock


@dataclass(frozen=True)
class TakeTools:
    """A take's store, journal, helper processes, and what the system has pushed."""

    vault: Vault
    index: PackIndex
    journal: Journal
    evaluates: Evaluates
    carvers: Carvers | None = None
    drop: Drop | None = None


@dataclass(frozen=True)
class HandedInDocuments:
    """Handed-in documents by their names in the kind, and their machine. Where a push is taken,
    there are none: its documents come from the drop.
    """

    machine: Machine
    documents: Mapping[str, bytes]


@dataclass(frozen=True)
class FoundContent:
    """The content of a backup. ``count`` and ``bytes``: of its documents."""

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
    """A completed backup."""

    reference: records.Reference
    digest: str
    head: Head
    written: Written
    documents: Digests
    plain: Plain  # what a look compares with
    # it equals the previous backup; no document was read, so none is listed here
    as_before: bool = False
    # digest of the machine's answers (:func:`~fennox.engine.takes.unchanged_machine.likeness`)
    likeness: str = ""
    skew: float | None = None  # seconds the machine's clock is ahead
    store_ahead: float | None = None  # seconds the store's clock is ahead, if known

    @property
    def nothing_new(self) -> bool:
        """No document has new content; documents may be gone, or have another mode or name."""
        return self.written.content == 0


def check_same_machine(subject: Subject, machine: Machine) -> None:
    """A changed machine id means a reinstalled, replaced or wrong machine; only a person can tell
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
