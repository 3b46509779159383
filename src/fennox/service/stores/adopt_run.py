"""Adopting a new or known store's backups into the catalogue."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field

from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import FennoxError
from fennox.core.evidence.evaluation import Census
from fennox.core.facts.run_orders import AdoptOrder, of_kind
from fennox.core.facts.run_results import AdoptResult
from fennox.core.format import notes
from fennox.core.format.manifest import Head
from fennox.core.format.records import Record, Reference
from fennox.core.time import parse_stamp
from fennox.core.words import counted
from fennox.engine.backups import record_lists
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.service.backups.catalogue_entry import backup_row
from fennox.service.keys.passphrase_relay import wait_for_key
from fennox.service.machines.context import Context
from fennox.service.own_state.own_routine import KIND as OWN_KIND
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.upkeep.catalogue_sync import follow

_ENTERING = text("select pg_advisory_xact_lock(7204)")
"""One backup is entered at a time: the stores of a rebuilt service are adopted side by side, and
hold the same.
"""


async def run_adopt(context: Context, lease: Lease, journal: Journal) -> None:
    """Enter a store's unknown backups into the catalogue, with their systems, notes and census."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(StoreRow, run.store_id)
        door = await context.stores.door(session, row)
        look_at_notes = of_kind(run.order, AdoptOrder).standing
    vault = await context.stores.vault(door)
    kept_apart = vault.locked
    if kept_apart:
        vault.unlock(await wait_for_key(context, lease, row, journal))
    index = context.stores.index(row.id)
    await journal.step("Read every record")
    await index.refresh(vault)
    good, bad = await record_lists.list_backups(vault)
    for name, error in bad:
        await journal.log("error", f"{name}: {error.what}")
    await journal.step("Enter what the catalogue does not know")
    adoption = _Adoption(context, lease, row, vault, index, journal, look_at_notes, kept_apart)
    for record in good:
        await journal.check()
        await adoption.enter(record)
    gone = await follow(context, lease, vault, row)
    if gone:
        swept = counted(len(gone), "backup")
        await journal.log("info", f"{swept} of the catalogue were swept from {row.name} before.")
    async with context.session() as session:
        run = await queue.owned(session, lease)
        run.documents = adoption.entered
        run.result = AdoptResult(
            backups=adoption.entered,
            copies=adoption.copies,
            systems=len(adoption.systems),
            unreadable=len(bad),
            gone=len(gone),
        )
        await queue.end(session, run, "done", context.now())


@dataclass
class _Adoption:
    """``apart``: the store is in custody apart, so names are stored as keyed digests. ``copies``:
    of backups already known.
    """

    context: Context
    lease: Lease
    row: StoreRow
    vault: Vault
    index: PackIndex
    journal: Journal
    look_at_notes: bool
    apart: bool
    entered: int = 0
    copies: int = 0
    systems: set[str] = field(default_factory=set)

    async def enter(self, record: Record) -> None:
        if await self._enter_known(record):
            if self.look_at_notes:
                await _follow_notes(self.context, self.lease, self.vault, record)
            return
        try:
            head = await BackupReader(self.vault, self.index, record).head()
            said = await self.vault.notes_of(self.vault.record_name(record.reference))
        except FennoxError as error:
            await record_lists.raise_unless_damage(self.vault, error)
            backup = record.reference.backup[:12]
            await self.journal.log("error", f"Backup {backup} cannot be opened: {error.what}")
            return
        standing = notes.merge(list(said.values()))
        async with self.context.session() as session:
            await queue.owned(session, self.lease)
            await session.execute(_ENTERING)
            if await session.get(Backup, record.reference.backup) is not None:
                # another store's adoption was faster
                self.copies += await _enter_copy(self.context, session, record, self.row)
                return
            census = self.vault.secret.keyed_census(head.census) if self.apart else head.census
            await _enter(self.context, session, record, head, census, standing, self.row)
        self.entered += 1
        self.systems.add(record.reference.system)
        await self.journal.progress(documents=self.entered)

    async def _enter_known(self, record: Record) -> bool:
        """Whether the catalogue has the backup; then only its copy may be new."""
        async with self.context.session() as session:
            await session.execute(_ENTERING)
            if await session.get(Backup, record.reference.backup) is None:
                return False
            self.copies += await _enter_copy(self.context, session, record, self.row)
            return True


async def _follow_notes(context: Context, lease: Lease, vault: Vault, record: Record) -> None:
    """Notes in the store that are newer than the catalogue's own backup."""
    said = list((await vault.notes_of(vault.record_name(record.reference))).values())
    if not said:
        return
    standing = notes.merge(said)
    async with context.session() as session:
        await queue.owned(session, lease)
        backup = await session.get_one(Backup, record.reference.backup)
        backup.noted = max(parse_stamp(note.time) for note in said)
        backup.held, backup.held_because = standing.held, standing.held_because
        backup.doubtful, backup.expired = standing.doubtful, standing.expired
        backup.doubtful_because = standing.doubtful_because


async def _enter_copy(
    context: Context, session: AsyncSession, record: Record, row: StoreRow
) -> int:
    if await session.get(Copy, (record.reference.backup, row.id)) is not None:
        return 0
    session.add(
        Copy(
            backup_id=record.reference.backup,
            store_id=row.id,
            since=context.now(),
            digest=record.digest,
            damaged="",
        )
    )
    return 1


async def _enter(
    context: Context,
    session: AsyncSession,
    record: Record,
    head: Head,
    census: Census,
    standing: notes.Standing,
    row: StoreRow,
) -> None:
    """``census``: as stored in the catalogue."""
    reference = record.reference
    system = await session.get(System, reference.system)
    if system is None:
        system = await _new_system(context, session, record, head)
    if reference.purpose == "backup":
        system.machine = head.machine
    sequence = await _place(session, system, reference)
    backup = backup_row(reference, head, record.digest, system.id)
    backup.sequence, backup.census = sequence, census
    backup.unchanged = reference.sizes.new_chunks == 0
    backup.held, backup.held_because = standing.held, standing.held_because
    backup.doubtful, backup.doubtful_because = standing.doubtful, standing.doubtful_because
    backup.expired = standing.expired
    session.add(backup)
    await session.flush()
    session.add(
        Copy(
            backup_id=backup.id,
            store_id=row.id,
            since=backup.time,
            digest=record.digest,
            damaged="",
        )
    )


async def _place(session: AsyncSession, system: System, reference: Reference) -> int:
    """A backup's number in the catalogue: its own, unless two histories of one system meet. Then
    later backups follow all existing ones. The position of others is unknown: they get a negative
    number, before all others, and no date is compared with them.
    """
    mine = Backup.system_id == system.id
    taken = select(Backup.id).where(mine, Backup.sequence == reference.sequence)
    if (await session.execute(taken)).first() is None:
        return reference.sequence
    ends = select(
        func.max(Backup.sequence), func.min(Backup.sequence), func.max(Backup.time)
    ).where(mine)
    last, first, newest = (await session.execute(ends)).one()
    return int(last) + 1 if parse_stamp(reference.time) >= newest else min(int(first), 0) - 1


async def _new_system(
    context: Context, session: AsyncSession, record: Record, head: Head
) -> System:
    """The system as described by its backup. No store contains its login's secret: a person must
    enter it again.
    """
    reference = record.reference
    name = reference.system_name
    if (await session.execute(select(System.id).where(System.name == name))).first() is not None:
        name = f"{name[:39]}-{reference.system[:8]}"
    login = None if reference.kind == OWN_KIND else await _login(context, session, head)
    system = System(
        id=reference.system,
        name=name,
        folder=reference.folder,
        kind=reference.kind,
        address=head.reached.address,
        login_id=login.id if login else None,
        key=head.reached.key,
        site="",
        labels=[],
        settings=dict(head.settings),
        machine=head.machine,
        created=parse_stamp(reference.time),
    )
    session.add(system)
    await session.flush()
    return system


async def _login(context: Context, session: AsyncSession, head: Head) -> Login:
    label = f"adopted-{''.join(c if c.isalnum() else '-' for c in head.reached.account.lower())}"[
        :48
    ]
    login = (await session.execute(select(Login).where(Login.name == label))).scalar_one_or_none()
    if login is None:
        login = Login(
            id=secrets.token_hex(16),
            name=label,
            account=head.reached.account,
            proves_by="password",
            sealed_secret=b"",
            changed=context.now(),
        )
        login.sealed_secret = context.keyfile.seal(b"", f"logins|{login.id}|secret")
        session.add(login)
        await session.flush()
    return login
