"""Bringing the service back on an empty machine from a store and a passphrase."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory

from sqlalchemy import func, insert, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue import schema
from fennox.catalogue.models import (
    IS_ACTIVE,
    Audit,
    Base,
    Run,
    ServiceState,
    StoreRow,
    System,
    User,
)
from fennox.core.errors import Conflict, Damaged, FennoxError, NotFound, Outdated
from fennox.core.facts.run_orders import AdoptOrder
from fennox.core.format.manifest import Document, Head
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.records import Record
from fennox.core.kind_files.loading import load as load_kind
from fennox.core.time import parse_stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.service.foundation.key_file import KeyFile
from fennox.service.machines import own_state_link
from fennox.service.machines.context import Context
from fennox.service.machines.own_state_link import KEPT, KeptTable, Row
from fennox.service.own_state.own_routine import KIND
from fennox.service.runs import queue

_ROWS = 500  # rows that are written at a time
_REASON = "The service was rebuilt from a backup that was taken while this run went on."


@dataclass(frozen=True)
class OwnBackup:
    """A backup of the own state, opened."""

    vault: Vault
    reader: BackupReader
    head: Head
    passed: list[str] = field(
        default_factory=list
    )  # newer ones that do not open, and records that cannot be read

    @property
    def record(self) -> Record:
        return self.reader.record


@dataclass
class Rebuilt:
    """What came back. ``left`` says in words what a person still has to do."""

    rows: dict[str, int] = field(default_factory=dict)
    left: list[str] = field(default_factory=list)


async def find(vault: Vault, wanted: str | None) -> OwnBackup:
    """The newest backup of the own state that opens, or the wanted one; what is passed over is
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
            passed.append(
                f"{name} cannot be read: {error.what}"
            )  # it may have been one of the own state
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
    """Refuse a state of a newer Fennox: what this one does not know of it would be lost without a
    word.
    """
    documents = await documents_of(reader)
    async for line in rows_of(reader, documents.get("schema")):
        number = str(json.loads(line)["schema"])
        if number > schema.NUMBER:
            raise Outdated(
                f"This backup was taken by a newer Fennox (schema {number}; this one knows"
                f" {schema.NUMBER}).",
                "Rebuild with the newest Fennox that this estate has used.",
            )


async def must_be_empty(session: AsyncSession) -> None:
    for model in (User, System, StoreRow):
        if (await session.execute(select(func.count()).select_from(model))).scalar_one():
            raise Conflict(
                "The database is in use: it has users, systems or stores.",
                "Give an empty one with --database.",
            )


async def rebuild(context: Context, own: OwnBackup, address: str, key: str | None) -> Rebuilt:
    """Write the whole state in one transaction. ``address``, ``key``: where the store was found
    this time.
    """
    opening = own.vault.opening_key()
    done = Rebuilt(left=[f"Look at this: {text}" for text in own.passed])
    with TemporaryDirectory(prefix="fennox-rebuild-") as folder:  # which nobody else may enter
        documents = await _fetched(own.reader, Path(folder))
        return await _write(context, own, opening, documents, done, (address, key))


async def _write(
    context: Context,
    own: OwnBackup,
    opening: OpeningKey,
    documents: Documents,
    done: Rebuilt,
    found_at: tuple[str, str | None],
) -> Rebuilt:
    async with context.session() as session:
        await must_be_empty(session)
        secrets_of = _Secrets(own.vault, opening, context.keyfile, done)
        secrets_of.read(documents)
        for table in Base.metadata.sorted_tables:
            if table.name in KEPT and table.name != "service_state":
                kept = KEPT[table.name]
                done.rows[table.name] = await _fill(session, documents, kept, secrets_of)
                await _go_on_counting(session, kept)
        await _take_its_place(session, documents)
        await _found_at(session, own.vault.id, *found_at)
        await _end_runs(session, context)
        for store in (
            (await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars().all()
        ):
            await queue.enqueue(
                session,
                AdoptOrder(standing=True),
                queue.About(store_id=store.id),
                by="rebuild",
                now=context.now(),
            )
        session.add(
            Audit(
                at=context.now(),
                by="rebuild",
                action="rebuilt",
                noun="service",
                name=KIND,
                details={"backup": own.record.reference.backup, "store": own.vault.id},
            )
        )
    return done


async def documents_of(reader: BackupReader) -> dict[str, Document]:
    """Every table's document: which it is, the kind file that was taken along says."""
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


async def _fetched(reader: BackupReader, folder: Path) -> Documents:
    """Read the whole state out of the store before the database is touched: a store may be slow."""
    found = {}
    for number, (table, document) in enumerate((await documents_of(reader)).items()):
        found[table] = folder / str(number)
        with found[table].open("wb") as file:
            async for line in rows_of(reader, document):
                file.write(line + b"\n")
    return found


def _lines(documents: Documents, table: str) -> Iterator[bytes]:
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


@dataclass
class _Secrets:
    """Sealed secrets by what they are; opened and sealed again under the new key file."""

    vault: Vault
    opening: OpeningKey
    keyfile: KeyFile
    done: Rebuilt
    _sealed: dict[str, bytes] = field(default_factory=dict)

    def read(self, documents: Documents) -> None:
        header = self.vault.header
        for line in _lines(documents, "sealed_secrets"):
            row = own_state_link.parse_row(KEPT["sealed_secrets"], line)
            if (row["key_set"], row["generation"]) == (header.key_set, header.generation):
                self._sealed[row["what"]] = row["sealed"]

    def _open(self, what: str) -> bytes | None:
        sealed = self._sealed.get(what)
        header = self.vault.header
        info = own_state_link.sealed_info(what, header.key_set, header.generation)
        return self.opening.open(sealed, info) if sealed is not None else None

    def restore(self, table: str, row: Row) -> None:
        if table == "logins":
            secret = self._open(own_state_link.login_secret(row["id"]))
            if secret is None:
                self.done.left.append(
                    f"Give the login {row['name']} its secret again: fennox login set {row['name']}"
                )
            row["sealed_secret"] = self.keyfile.seal(secret or b"", f"logins|{row['id']}|secret")
        elif table == "users":
            self._user(row)
        elif table == "alert_routes":
            self._alert_route(row)
        elif table == "key_sets":
            self._key_set(row)

    def _user(self, row: Row) -> None:
        row["sealed_totp"] = None
        if row.get("totp_since") is None:
            return
        secret = self._open(own_state_link.totp_secret(row["id"]))
        if secret is not None:
            row["sealed_totp"] = self.keyfile.seal(secret, f"users|{row['id']}|totp")
            return
        # otherwise the password alone would be enough
        row["password_hash"], row["totp_since"] = "", None
        self.done.left.append(
            f"The second factor of {row['name']} is lost. Nobody can sign in with that password"
            f" until you run: fennox user recover {row['name']}"
        )

    def _alert_route(self, row: Row) -> None:
        address, secret = (
            self._open(f(row["id"]))
            for f in (own_state_link.alert_address, own_state_link.alert_secret)
        )
        row["sealed_secret"] = (
            self.keyfile.seal(secret, f"alert_routes|{row['id']}|secret") if secret else None
        )
        row["sealed_address"] = (
            self.keyfile.seal(address, f"alert_routes|{row['id']}|address") if address else None
        )
        if secret is None and (row["channel"] == "webhook" or row["settings"].get("account")):
            self.done.left.append(
                f"If the alert route {row['name']} had a secret, remove it and set it anew: this"
                " backup holds none."
            )

    def _key_set(self, row: Row) -> None:
        identity = (row["id"], row["generation"])
        place = f"key_sets|{row['id']}|{row['generation']}"
        held = self.vault.header.key_set == row["id"]
        raw = (
            self.vault.held[row["generation"]].raw
            if held and row["generation"] in self.vault.held
            else None
        )
        raw = raw or self._open(own_state_link.write_secret(*identity))
        if raw is None:
            raise Damaged(
                f"The backup lacks the write secret of the key set {row['name']}.",
                "Try an older backup with --backup.",
            )
        row["sealed_write_secret"] = self.keyfile.seal(raw, f"{place}|write secret")
        row["sealed_opening_key"] = None
        if row["custody"] == "kept" and held:
            if row["generation"] == self.vault.header.generation:
                row["sealed_opening_key"] = self.keyfile.seal(
                    self.opening.raw, f"{place}|opening key"
                )
        elif row["custody"] == "kept":
            row["custody"] = "apart"
            text = (
                f"The key set {row['name']} was kept by the service; its passphrase was not given"
                " now. Give it with `fennox store custody STORE kept`."
            )
            if text not in self.done.left:
                self.done.left.append(text)


async def _fill(
    session: AsyncSession, documents: Documents, kept: KeptTable, known: _Secrets
) -> int:
    batch: list[Row] = []
    count = 0

    async def flush() -> None:
        if batch:
            await session.execute(insert(kept.table), batch)
            batch.clear()

    for line in _lines(documents, kept.table.name):
        try:
            row = own_state_link.parse_row(kept, line)
        except (ValueError, AttributeError) as error:
            raise Damaged(
                f"A row of {kept.table.name} cannot be read.", "Try an older backup."
            ) from error
        known.restore(kept.table.name, row)
        batch.append(row)
        count += 1
        if len(batch) >= _ROWS:
            await flush()
    await flush()
    return count


async def _go_on_counting(session: AsyncSession, kept: KeptTable) -> None:
    """Numbers that the database gives go on behind the largest that is there."""
    for column in kept.table.columns:
        if column.identity is not None:
            sequence = func.pg_get_serial_sequence(kept.table.name, column.name)
            await session.execute(
                select(func.setval(sequence, func.coalesce(func.max(column), 0) + 1, False))
            )


async def _take_its_place(session: AsyncSession, documents: Documents) -> None:
    """From now on this is the service that it was."""
    for line in _lines(documents, "service_state"):
        row = own_state_link.parse_row(KEPT["service_state"], line)
        await session.execute(
            update(ServiceState).values(id=row["id"], created=row["created"], setup_code=None)
        )


async def _found_at(session: AsyncSession, store: str, address: str, key: str | None) -> None:
    row = await session.get(StoreRow, store)
    if row is not None:
        row.address = address
        row.key = key if key is not None else row.key
        row.stopped_because = ""


async def _end_runs(session: AsyncSession, context: Context) -> None:
    going = update(Run).where(IS_ACTIVE)
    await session.execute(
        going.values(state="stopped", reason=_REASON, remedy="", ended=context.now())
    )
