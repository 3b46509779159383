"""The head and the record of a take."""

from __future__ import annotations

from fennox import __version__
from fennox.core.format import records
from fennox.core.format.manifest import Document, Head, Part
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.trees import Root
from fennox.core.kinds.model import Kind
from fennox.core.time import parse_stamp
from fennox.engine.backups.backup_reader import BackupReader, backup_digests
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.pack_writer import Written
from fennox.engine.backups.vault import Vault
from fennox.engine.processes.drawn_facts import DrawnFacts
from fennox.engine.reading.capture import Capture
from fennox.engine.takes.take_order import (
    FoundContent,
    Subject,
    Taken,
    TakeRequest,
)


async def seal_head(found: FoundContent, order: TakeRequest) -> tuple[Root, bytes]:
    if (before := found.before) is not None and found.head == before.head:
        sealed = found.writer.seal_as_before(
            before.head_root, before.reference.id_list, before.ids, order.backup
        )
        if sealed is not None:
            return sealed
    return await found.writer.seal_manifest(found.head, order.backup)


def day_of(stamp: str) -> str:
    return f"{parse_stamp(stamp):%Y-%m-%d %H:%M} UTC"


def marked(documents: list[Document], moved: set[str]) -> list[Document]:
    return [d.model_copy(update={"moved": True}) if d.path in moved else d for d in documents]


async def already_there(vault: Vault, index: PackIndex, order: TakeRequest) -> Taken | None:
    """A resumed run first checks whether its record was stored before it died."""
    if order.attempt == 1:
        return None
    names = [
        name for name in await vault.record_names() if records.short_id(name) == order.backup[:8]
    ]
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


def head_of_take(
    subject: Subject, order: TakeRequest, capture: Capture, parts: list[Part], told: DrawnFacts
) -> Head:
    return Head(
        kind=subject.kind_file,
        settings=subject.settings,
        machine=capture.machine,
        reached=subject.reached,
        parts=parts,
        census=told.census,
        expected=told.expected,
        findings=told.findings,
        left_out=[*subject.kind.left_out, *capture.not_taken()],
        certificates=told.certificates,
        routine=order.routine,
        fennox=__version__,
    )


def _lacks_essentials(kind: Kind, taken: set[str]) -> bool:
    return any(
        part.essential and not part.comes_by_itself and part.name not in taken for part in kind.part
    )


def reference_of_take(
    vault: Vault,
    subject: Subject,
    order: TakeRequest,
    found: FoundContent,
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
        partial=_lacks_essentials(subject.kind, {part.name for part in parts}),
        routine=order.routine,
        generation=vault.header.generation,
        origin=vault.id,
        id_list=id_list,
        sizes=records.Sizes(
            documents=found.count,
            bytes=found.bytes,
            new_chunks=written.chunks,
            new_bytes=written.bytes,
        ),
        sealed_digest=blake2b_256(sealed),
        read_whole=found.read_whole,
    )
