"""A machine whose answers equal those at its last take has not changed and need not be read. The
answers contain every file's inode, size and times, of which programs cannot set back the change
time (``ctime``), and all program outputs. They are stored as a digest keyed with the set's write
secret, which is useless to a thief. Every few days everything is read anyway.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Protocol

from fennox import __version__
from fennox.core.errors import Damaged, FennoxError
from fennox.core.format.manifest import Head, KindFile
from fennox.core.format.records import Previous, Reference
from fennox.core.format.trees import Root
from fennox.core.kinds.model import Kind
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.reading.file_stamps import recent
from fennox.engine.reading.inquiry import Inquiry, is_asked_whole


class KnownAnswers(Protocol):
    """Facts of a system that affect its backup's content."""

    @property
    def folder(self) -> str: ...

    @property
    def kind(self) -> Kind: ...

    @property
    def kind_file(self) -> KindFile: ...

    @property
    def settings(self) -> dict[str, str]: ...


@dataclass(frozen=True)
class Before:
    """The previous backup, all of which is relied on now; ``head_root`` and ``ids``: places of its
    head and content.
    """

    reference: Reference
    head: Head
    head_root: Root
    ids: dict[bytes, str]


@dataclass(frozen=True)
class RecordPlace:
    """The previous backup's name in a store: folder, time and name."""

    folder: str
    time: str
    name: str


def likeness(
    vault: Vault, subject: KnownAnswers, machine: str, parts: Sequence[str], inquiry: Inquiry
) -> str:
    """A digest that stays equal while nothing changes; empty if the answers cannot show changes.
    ``machine``: its id, or the expected id if the answers lack it.
    """
    told = inquiry.told() if is_asked_whole(subject.kind, parts) else None
    if told is None:
        return ""
    all_else = [__version__, machine, subject.kind_file.text, subject.settings, list(parts)]
    known = json.dumps(all_else, sort_keys=True).encode()
    return vault.secret.keyed_digest(
        b"".join(b"%d:%b" % (len(text), text) for text in [known, *told])
    ).hex()


async def rely_on_before(
    vault: Vault, index: PackIndex, writer: BackupWriter, previous: Previous, place: RecordPlace
) -> Before | None:
    """The previous backup, if all its chunks are reliable and everything was read
    recently enough.
    """
    with suppress(FennoxError):  # in another store, or damaged: read everything
        record = await vault.record_of(previous.backup, place.folder, place.time, place.name)
        reference = record.reference
        if (
            not recent(reference.read_whole, vault.now())
            or reference.generation != vault.header.generation
        ):
            return None
        with suppress(Damaged):
            return await _relied_on(BackupReader(vault, index, record), writer)
        await index.refresh(vault)  # written by another process since
        return await _relied_on(BackupReader(vault, index, record), writer)
    return None


async def _relied_on(reader: BackupReader, writer: BackupWriter) -> Before:
    head, ids = await reader.head(), await reader.id_list()
    if not writer.rely_on(ids.keys() - await reader.head_ids()):
        raise Damaged("Not all of the backup before can be relied on.", "Everything is read.")
    return Before(reader.record.reference, head, reader.head_root, ids)
