"""Entering backups into the catalogue."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.stores import StoreRow
from fennox.core.errors import MendSettings
from fennox.core.format.manifest import Head, PartHeld
from fennox.core.format.records import Reference
from fennox.core.time import parse_stamp
from fennox.engine.backups.vault import Vault
from fennox.engine.takes.take_order import Taken
from fennox.service.machines.context import named
from fennox.service.queries.newest_good import GOOD


def backup_row(reference: Reference, head: Head, digest: str, system_id: str) -> Backup:
    """Catalogue fields from a backup's record and manifest; the caller sets the rest."""
    return Backup(
        id=reference.backup,
        system_id=system_id,
        run_id=reference.run,
        name=reference.name,
        note=reference.note,
        purpose=reference.purpose,
        kind=reference.kind,
        time=parse_stamp(reference.time),
        sequence=reference.sequence,
        digest=digest,
        parts=[
            PartHeld(name=part.name, documents=part.documents, bytes=part.bytes)
            for part in head.parts
        ],
        documents=reference.sizes.documents,
        size=reference.sizes.bytes,
        new_bytes=reference.sizes.new_bytes,
        partial=reference.partial,
        account=head.reached.account,
        machine=head.machine,
        census=head.census,
        findings=head.findings,
        left_out=head.left_out,
        certificates=head.certificates,
    )


def keep_backup(
    session: AsyncSession, run: Run, system_id: str, store_id: str, taken: Taken, vault: Vault
) -> Backup:
    """Enter a backup into the catalogue, in the transaction that holds the run."""
    row = backup_row(taken.reference, taken.head, taken.digest, system_id)
    row.run_id, row.routine_id = run.id, run.routine_id
    row.new_bytes = taken.written.bytes
    row.unchanged = False  # set if the previous backup turns out to be equal
    if vault.locked:
        row.census = vault.secret.keyed_census(taken.head.census)
    session.add(row)
    session.add(Copy(backup_id=row.id, store_id=store_id, since=row.time, digest=taken.digest))
    return row


async def newest_of(session: AsyncSession, system_id: str) -> Backup | None:
    """The newest good backup of the system."""
    found = (
        select(Backup)
        .where(Backup.system_id == system_id, *GOOD)
        .order_by(Backup.sequence.desc())
        .limit(1)
    )
    return (await session.execute(found)).scalar_one_or_none()


async def store_for(session: AsyncSession, name: str | None) -> StoreRow:
    """The store of that name, or the only store if none is named. Raises MendSettings."""
    if name:
        return await named(session, StoreRow, name)
    stores = list((await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars())
    return check_store_given(stores)


def check_store_given(stores: list[StoreRow]) -> StoreRow:
    if len(stores) == 1:
        return stores[0]
    names = ", ".join(store.name for store in stores)
    raise MendSettings(
        "There are no stores yet." if not stores else f"There are {len(stores)} stores: {names}.",
        "Add one with `fennox store add`." if not stores else "Say which one with --store.",
    )
