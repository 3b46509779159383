"""Fennox's own backup in a store: finding it, and reading its tables."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from fennox.catalogue import schema
from fennox.core.errors import Damaged, FennoxError, NotFound, Outdated
from fennox.core.format.manifest import Document, Head
from fennox.core.format.records import Record
from fennox.core.kind_files.loading import load as load_kind
from fennox.core.time import parse_stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.service.own_state.own_routine import KIND


@dataclass(frozen=True)
class OwnBackup:
    """A backup of the own state, opened."""

    vault: Vault
    reader: BackupReader
    head: Head
    # newer backups that do not open, and unreadable records
    passed: list[str] = field(default_factory=list)

    @property
    def record(self) -> Record:
        return self.reader.record


async def find(vault: Vault, wanted: str | None) -> OwnBackup:
    """The newest readable backup of the own state, or the requested one; skipped backups are
    named.
    """
    index = PackIndex()
    await index.refresh(vault)
    own: list[Record] = []
    passed: list[str] = []
    for name in await vault.record_names():
        try:
            record = await vault.read_record(name)
        except Damaged as error:
            # it may have been a backup of the own state
            passed.append(f"{name} cannot be read: {error.what}")
            continue
        if record.reference.kind == KIND and record.reference.backup.startswith(wanted or ""):
            own.append(record)
    fault: FennoxError | None = None
    for record in sorted(own, key=lambda record: record.reference.sequence, reverse=True):
        try:
            reader = BackupReader(vault, index, record)
            head = await reader.head()
            await must_be_known(reader)
            return OwnBackup(vault, reader, head, passed)
        except Damaged as error:
            fault = fault or error
            passed.append(f"The backup {_named(record)} cannot be opened: {error.what}")
    if fault is not None:
        older = ", ".join(_named(record) for record in own)
        raise Damaged(
            f"No backup of Fennox itself can be opened: {fault.what}",
            f"There were: {older}. Try another store.",
        )
    raise NotFound(
        f"{vault.store.address} holds no {'such ' if wanted else ''}backup of Fennox itself.",
        "Try another store. Without one: start an empty service, and `fennox store adopt` brings"
        " every backup back.",
    )


def _named(record: Record) -> str:
    return (
        f"{record.reference.backup[:12]} of {parse_stamp(record.reference.time):%Y-%m-%d %H:%M} UTC"
    )


async def must_be_known(reader: BackupReader) -> None:
    """Refuse a state from a newer Fennox: whatever is unknown here would be lost silently."""
    documents = await documents_of(reader)
    async for line in rows_of(reader, documents.get("schema")):
        number = str(json.loads(line)["schema"])
        if number > schema.NUMBER:
            raise Outdated(
                f"This backup was taken by a newer Fennox (schema {number}; this one knows"
                f" {schema.NUMBER}).",
                "Rebuild with the newest Fennox that this estate has used.",
            )


async def documents_of(reader: BackupReader) -> dict[str, Document]:
    """Every table's document, located by the kind file in the backup."""
    head = await reader.head()
    kind = load_kind(head.kind.text)
    tables = {
        source.document: source.ask.fetch.path.removeprefix("/tables/")
        for part in kind.part
        for source in part.source
        if source.ask is not None
    }
    found = {}
    for part in head.parts:
        async for document in reader.documents(part):
            found[tables.get(document.path, "")] = document
    return found


Documents = Mapping[str, Path]
"""Each table's rows in a file."""


async def fetched(reader: BackupReader, folder: Path) -> Documents:
    """Read the whole state from the store before touching the database: a store may be slow."""
    found = {}
    for number, (table, document) in enumerate((await documents_of(reader)).items()):
        found[table] = folder / str(number)
        with found[table].open("wb") as file:
            async for line in rows_of(reader, document):
                file.write(line + b"\n")
    return found


def lines(documents: Documents, table: str) -> Iterator[bytes]:
    if table in documents:
        with documents[table].open("rb") as file:
            yield from file


async def rows_of(reader: BackupReader, document: Document | None) -> AsyncIterator[bytes]:
    """The rows of a table, one line of JSON each."""
    held = b""
    if document is None:
        return
    async for piece in reader.content(document):
        *lines, held = (held + piece).split(b"\n")
        for line in lines:
            if line.startswith(b"{"):
                yield line.removesuffix(b",")
