"""Taking a backup: read the system, store what is new, write the record last."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from fennox import __version__
from fennox.core.errors import FennoxError, PersonNeeded, TryLater
from fennox.core.format import records
from fennox.core.format.digest import blake2b_256
from fennox.core.format.manifest import Document, Finding, Head, KindFile, Machine, Part, Reached
from fennox.core.format.trees import Root
from fennox.core.kinds.certificates import certificates
from fennox.core.kinds.evaluation import expected, parts_to_take
from fennox.core.kinds.model import Kind
from fennox.core.time import parse_stamp
from fennox.engine import clocks
from fennox.engine.capture import Capture, identify
from fennox.engine.carving import Carvers
from fennox.engine.gathering import gather
from fennox.engine.index import PackIndex
from fennox.engine.inquiring import Inquiry, inquiring
from fennox.engine.journal import Journal
from fennox.engine.looks import Plain, plain_of
from fennox.engine.reading import BackupReader, Digests, backup_digests, digest_of
from fennox.engine.sameness import Before, RecordPlace, likeness, rely_on_before
from fennox.engine.trusting import stored_part, trusted
from fennox.engine.vault import Vault
from fennox.engine.writing import BackupWriter, Written
from fennox.links.base import Link, Shell

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
    trust: bool = False  # by a routine, tried again by itself: what has not moved is taken over
    likeness: str = ""  # how the machine answered when the backup before was taken
    before: RecordPlace | None = None  # where that is


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
    as_before: bool = False  # it holds what the backup before holds; no document was read, so that none is told here
    likeness: str = ""  # how the machine answered, as :func:`~fennox.engine.sameness.likeness` tells it
    skew: float | None = None  # seconds that the machine's clock is ahead

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
    found = None
    if link is not None and handed_in is None and order.trust and order.likeness:
        found = await _if_as_before(vault, index, link, subject, order, parts, journal)
    if found is None:
        found = await _read(vault, index, link, subject, order, parts, journal, any_machine, handed_in, carvers)
    writer = found.writer
    id_list, sealed = await _sealed(found, order)
    await journal.step("Write the record")
    if writer.relies_on(await vault.condemned(index.swept)):
        raise TryLater("A sweep condemned packs that this backup relies on.", "Take the backup again.")
    reference = _reference(vault, subject, order, found, writer.written, id_list, sealed)
    await journal.check()
    data = await writer.commit(reference, sealed)
    digest = records.decode(data, vault.secret, vault.id).digest
    return Taken(
        reference,
        digest,
        found.head,
        writer.written,
        found.documents,
        found.plain,
        found.before is not None,
        found.likeness,
        found.skew,
    )


@dataclass(frozen=True)
class _Found:
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


async def _writer(vault: Vault, index: PackIndex, order: Order, journal: Journal) -> BackupWriter:
    """What has been condemned since the packs were listed is looked at before the record is written.

    A routine's take is then tried again by itself; a person, who would have to do that, has it looked at here too.
    """
    await journal.step("Look at what the store already holds")
    await index.refresh(vault, not_older=_LISTED_WITHIN)
    return BackupWriter(vault, index, index.condemned if order.trust else await vault.condemned(index.swept))


async def _sealed(found: _Found, order: Order) -> tuple[Root, bytes]:
    if (before := found.before) is not None and found.head == before.head:
        sealed = found.writer.seal_as_before(before.head_root, before.reference.id_list, before.ids, order.backup)
        if sealed is not None:
            return sealed
    return await found.writer.seal_manifest(found.head, order.backup)


async def _if_as_before(
    vault: Vault,
    index: PackIndex,
    link: Link,
    subject: Subject,
    order: Order,
    parts: list[str],
    journal: Journal,
) -> _Found | None:
    """What the machine holds if it answers as it did for the backup before; None: it must be read."""
    if order.previous is None or order.before is None:
        return None
    await journal.step("Ask the machine whether anything has changed")
    asking = inquiring(link, subject.kind, subject.settings, parts, stamps=True, now=vault.now, likely=True)
    async with asking as inquiry:
        await inquiry.read()
        if likeness(vault, subject, subject.machine_id, parts, inquiry) != order.likeness:
            return None
        writer = await _writer(vault, index, order, journal)
        before = await rely_on_before(vault, index, writer, order.previous, order.before)
        if before is None:
            return None
        skew = await _skew(vault, subject, link, inquiry, journal)
    return await _as_before(writer, before, subject, order, journal, skew)


async def _read(
    vault: Vault,
    index: PackIndex,
    link: Link | None,
    subject: Subject,
    order: Order,
    parts: list[str],
    journal: Journal,
    any_machine: bool,
    handed_in: HandedIn | None,
    carvers: Carvers | None,
) -> _Found:
    # what a person gave is not asked of the machine
    asked = link if handed_in is None else None
    asking = inquiring(asked, subject.kind, subject.settings, parts, stamps=order.trust, now=vault.now)
    async with asking as inquiry:
        if handed_in is None:
            assert link is not None
            await journal.step("Ask the machine who it is, and what it holds")
            machine = await _who(subject, link, inquiry)
        else:
            machine = handed_in.machine
        if not any_machine:
            check_same_machine(subject, machine)
        writer = await _writer(vault, index, order, journal)
        now = likeness(vault, subject, machine.id, parts, inquiry) if order.trust else ""
        taking = _Taking(vault, index, writer, subject, order, parts, journal)
        documents = handed_in.documents if handed_in is not None else {}
        found = await taking.read(link, inquiry, machine, documents, now, carvers)
        if asked is None:
            return found
        return replace(found, skew=await _skew(vault, subject, asked, inquiry, journal))


async def _who(subject: Subject, link: Link, inquiry: Inquiry) -> Machine:
    if not isinstance(link, Shell) or subject.kind.identity.ask:
        return await identify(subject.kind, link, subject.settings)
    await inquiry.read()
    return inquiry.machine(subject.kind)


async def _skew(vault: Vault, subject: Subject, link: Link, inquiry: Inquiry, journal: Journal) -> float | None:
    """A backup is no worse for it, so that what goes wrong here is only told."""
    try:
        return await clocks.skew(subject.kind, link, subject.settings, vault.now, inquiry)
    except FennoxError as error:
        await journal.log("warning", f"The machine's clock was not read: {error}")
        return None


async def _as_before(
    writer: BackupWriter, before: Before, subject: Subject, order: Order, journal: Journal, skew: float | None
) -> _Found:
    """The machine answers as it did: it holds what the backup before holds, under the same manifest."""
    sizes, since = before.reference.sizes, before.reference.read_whole or ""
    last = f"{parse_stamp(since):%Y-%m-%d %H:%M} UTC"
    text = f"It answers as it did for the backup before, so all {sizes.documents} documents are as they were; all were "
    await journal.log("info", f"{text}last read on {last}.")
    await journal.progress(documents=sizes.documents, bytes=sizes.bytes)
    head = before.head.model_copy(update={"reached": subject.reached, "routine": order.routine})
    return _Found(writer, head, sizes.documents, sizes.bytes, since, {}, {}, before, order.likeness, skew)


@dataclass
class _Taking:
    """A take that reads what may have changed."""

    vault: Vault
    index: PackIndex
    writer: BackupWriter
    subject: Subject
    order: Order
    parts: list[str]
    journal: Journal

    async def read(
        self,
        link: Link | None,
        inquiry: Inquiry,
        machine: Machine,
        handed_in: Mapping[str, bytes],
        likeness: str,
        carvers: Carvers | None,
    ) -> _Found:
        """Read and store the documents, then the manifest. ``likeness``: how the machine answered."""
        writer, subject, order, journal = self.writer, self.subject, self.order, self.journal
        trust = None
        if order.trust:
            trust = await trusted(self.vault, self.index, writer.condemned, order.previous, subject, machine.id)
        await journal.step("Read and store the documents")
        capture = Capture(subject.kind, subject.settings, machine, handed_in=handed_in, trust=trust)
        gathered = await gather(writer, link, capture, self.parts, journal, inquiry, apart=order.apart, carvers=carvers)
        if capture.taken_over and trust is not None:
            since = f"{parse_stamp(trust.since):%Y-%m-%d %H:%M} UTC"
            text = f"{capture.taken_over} of {gathered.count} documents have the inode, size and times they had; all "
            await journal.log("info", text + f"were last read on {since}.")
        for said in capture.said[:_MOST_SAID]:
            known = f" (expected: {said.expected})" if said.expected else ""
            await journal.log("expected" if said.expected else "warning", f"{said.command} said: {said.line}{known}")
        await journal.step("Store the manifest")
        stored = [
            await stored_part(
                writer, trust, name, subject.kind.part_named(name).title, _marked(gathered.of(name), capture.moved)
            )
            for name in self.parts
        ]
        still = capture.trust is trust and not capture.moved  # else something changed between the look and the reading
        return _Found(
            writer,
            _head(subject, order, capture, stored, capture.conclude(self.parts)),
            gathered.count,
            gathered.bytes,
            trust.since if trust is not None and capture.taken_over else order.time,
            {part: {d.path: digest_of(d) for d in gathered.of(part)} for part in gathered.documents},
            plain_of(capture, {name: gathered.of(name) for name in self.parts}, with_secrets=not order.apart),
            None,
            likeness if still else "",
            None,
        )


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
    found: _Found,
    written: Written,
    id_list: Root,
    sealed: bytes,
) -> records.Reference:
    parts = found.head.parts
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
            documents=found.count, bytes=found.bytes, new_chunks=written.chunks, new_bytes=written.bytes
        ),
        sealed_digest=blake2b_256(sealed),
        read_whole=found.read_whole,
    )
