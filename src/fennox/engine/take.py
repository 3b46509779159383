"""Taking a backup: read the system, store what is new, write the record last."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fennox import __version__
from fennox.core.errors import PersonNeeded, TryLater
from fennox.core.format import records
from fennox.core.format.digest import blake2b_256
from fennox.core.format.manifest import Document, Finding, Head, KindFile, Machine, Part, Reached
from fennox.core.format.trees import Root
from fennox.core.kinds.certificates import certificates
from fennox.core.kinds.evaluation import expected, parts_to_take
from fennox.core.kinds.model import Kind
from fennox.core.time import parse_stamp
from fennox.engine.capture import Capture, identify
from fennox.engine.carving import Carvers
from fennox.engine.gathering import Gathered, gather
from fennox.engine.index import PackIndex
from fennox.engine.journal import Journal
from fennox.engine.looks import Plain, plain_of
from fennox.engine.reading import BackupReader, Digests, backup_digests, digest_of
from fennox.engine.trusting import stored_part, trusted
from fennox.engine.vault import Vault
from fennox.engine.writing import BackupWriter, Written
from fennox.links.base import Link

_LISTED_WITHIN = 60  # seconds: a thousand takes of one night do not each list every pack of the store
_MOST_SAID = 100  # lines of what commands said that go into a run's log


@dataclass(frozen=True)
class Subject:
    """The system as a run knows it: its kind, settings, and the machine id it had the last time (empty: never)."""

    id: str
    name: str
    folder: str
    kind: Kind
    kind_file: KindFile
    settings: dict[str, str]
    machine_id: str
    reached: Reached


@dataclass(frozen=True)
class Order:
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
    trust: bool = False  # files are stamped, and taken over where inode, size and times are as they were


@dataclass(frozen=True)
class HandedIn:
    """Documents that a person gave, by their names in the kind, and the machine they are of."""

    machine: Machine
    documents: Mapping[str, bytes]


@dataclass(frozen=True)
class Taken:
    """A backup that exists now."""

    reference: records.Reference
    digest: str
    head: Head
    written: Written
    documents: Digests
    plain: Plain  # what a look compares with

    @property
    def unchanged(self) -> bool:
        return self.written.content == 0


def check_same_machine(subject: Subject, machine: Machine) -> None:
    """A changed machine id means reinstalled, replaced or wrong machine; only a person can say which."""
    if subject.machine_id and machine.id != subject.machine_id:
        raise PersonNeeded(
            f"The machine at {subject.reached.address} says it is {machine.id}; {subject.name} was "
            f"{subject.machine_id} until now.",
            "It was reinstalled, replaced, or this is the wrong machine. If it is the right one, confirm it.",
            machine=machine.id,
        )


async def take(
    vault: Vault,
    index: PackIndex,
    link: Link | None,
    subject: Subject,
    order: Order,
    journal: Journal,
    *,
    any_machine: bool,
    handed_in: HandedIn | None = None,
    carvers: Carvers | None = None,
) -> Taken:
    """Take one backup. ``any_machine``: the machine may have another id (a safety copy of a fresh target).

    ``handed_in`` is what a person gave; nothing is then read from the machine, and there need be no link. ``carvers``
    help with long takes.
    """
    parts = parts_to_take(subject.kind, order.parts)
    existing = await _already_there(vault, index, order)
    if existing is not None:
        await journal.log("info", "The record of an earlier attempt is in the store; the backup is complete.")
        return existing
    if handed_in is not None:
        machine = handed_in.machine
    else:
        assert link is not None
        await journal.step("Ask the machine who it is")
        machine = await identify(subject.kind, link, subject.settings)
    if not any_machine:
        check_same_machine(subject, machine)
    await journal.step("Look at what the store already holds")
    await index.refresh(vault, not_older=_LISTED_WITHIN)
    writer = BackupWriter(vault, index, await vault.condemned(index.swept))
    trust = await trusted(vault, index, writer.condemned, order.previous, subject, machine.id) if order.trust else None
    await journal.step("Read and store the documents")
    documents = handed_in.documents if handed_in is not None else {}
    capture = Capture(subject.kind, subject.settings, machine, handed_in=documents, trust=trust)
    gathered = await gather(writer, link, capture, parts, journal, apart=order.apart, carvers=carvers)
    if capture.taken_over and trust is not None:
        since = f"{parse_stamp(trust.since):%Y-%m-%d %H:%M} UTC"
        text = f"{capture.taken_over} of {gathered.count} documents have the inode, size and times they had; all were "
        await journal.log("info", text + f"last read on {since}.")
    for said in capture.said[:_MOST_SAID]:
        known = f" (expected: {said.expected})" if said.expected else ""
        await journal.log("expected" if said.expected else "warning", f"{said.command} said: {said.line}{known}")
    await journal.step("Store the manifest")
    stored = [
        await stored_part(
            writer, trust, name, subject.kind.part_named(name).title, _marked(gathered.of(name), capture.moved)
        )
        for name in parts
    ]
    head = _head(subject, order, capture, stored, capture.conclude(parts))
    id_list, sealed = await writer.seal_manifest(head, order.backup)
    await journal.step("Write the record")
    if writer.relies_on(await vault.condemned(index.swept)):
        raise TryLater("A sweep condemned packs that this backup relies on.", "Take the backup again.")
    read_whole = trust.since if trust is not None and capture.taken_over else order.time
    reference = _reference(vault, subject, order, gathered, writer.written, id_list, sealed, stored, read_whole)
    await journal.check()
    data = await writer.commit(reference, sealed)
    digest = records.decode(data, vault.secret, vault.id).digest
    digests = {part: {d.path: digest_of(d) for d in gathered.of(part)} for part in gathered.documents}
    plain = plain_of(capture, {name: gathered.of(name) for name in parts}, with_secrets=not order.apart)
    return Taken(reference, digest, head, writer.written, digests, plain)


def _marked(documents: list[Document], moved: set[str]) -> list[Document]:
    return [d.model_copy(update={"moved": True}) if d.path in moved else d for d in documents]


async def _already_there(vault: Vault, index: PackIndex, order: Order) -> Taken | None:
    """A resumed run first looks whether its record was put before it died."""
    if order.attempt == 1:
        return None
    names = [name for name in await vault.record_names() if records.short_id(name) == order.backup[:8]]
    for name in names:
        record = await vault.read_record(name)
        if record.reference.backup == order.backup and not vault.locked:
            await index.refresh(vault)
            reader = BackupReader(vault, index, record)
            head = await reader.head()
            sizes = record.reference.sizes
            documents = await backup_digests(reader, [part.name for part in head.parts])
            return Taken(
                record.reference,
                record.digest,
                head,
                Written(sizes.new_chunks, sizes.new_chunks, sizes.new_bytes),
                documents,
                {},
            )
    return None


def _head(subject: Subject, order: Order, capture: Capture, parts: list[Part], findings: list[Finding]) -> Head:
    return Head(
        kind=subject.kind_file,
        settings=subject.settings,
        machine=capture.machine,
        reached=subject.reached,
        parts=parts,
        census=capture.census(),
        expected=expected(subject.kind, capture.evidence),
        findings=findings,
        left_out=[*subject.kind.left_out, *capture.not_taken()],
        certificates=certificates(subject.kind, capture.evidence),
        routine=order.routine,
        fennox=__version__,
    )


def _reference(
    vault: Vault,
    subject: Subject,
    order: Order,
    gathered: Gathered,
    written: Written,
    id_list: Root,
    sealed: bytes,
    parts: list[Part],
    read_whole: str,
) -> records.Reference:
    return records.Reference(
        backup=order.backup,
        run=order.run,
        attempt=order.attempt,
        system=subject.id,
        system_name=subject.name,
        folder=subject.folder if vault.header.plain_names else subject.id[:8],
        kind=subject.kind.name,
        name=order.name,
        note=order.note,
        purpose=order.purpose,
        time=order.time,
        sequence=order.sequence,
        previous=order.previous,
        parts=[part.name for part in parts],
        partial=any(
            part.essential and not part.handed_in and part.name not in {p.name for p in parts}
            for part in subject.kind.part
        ),
        routine=order.routine,
        generation=vault.header.generation,
        origin=vault.id,
        id_list=id_list,
        sizes=records.Sizes(
            documents=gathered.count, bytes=gathered.bytes, new_chunks=written.chunks, new_bytes=written.bytes
        ),
        sealed_digest=blake2b_256(sealed),
        read_whole=read_whole,
    )
