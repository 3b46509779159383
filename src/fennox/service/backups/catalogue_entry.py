"""A backup as the catalogue enters it."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.stores import StoreRow
from fennox.core.errors import MendSettings
from fennox.core.format.manifest import PartHeld
from fennox.core.time import parse_stamp
from fennox.engine.backups.vault import Vault
from fennox.engine.takes.take_order import Taken
from fennox.service.queries.newest_good import GOOD


def keep_backup(
    session: AsyncSession, run: Run, system_id: str, store_id: str, taken: Taken, vault: Vault
) -> Backup:
    """Enter a backup into the catalogue, in the transaction that holds the run."""
    reference, head = taken.reference, taken.head
    row = Backup(
        id=reference.backup,
        system_id=system_id,
        run_id=run.id,
        routine_id=run.routine_id,
        name=reference.name,
        note=reference.note,
        purpose=reference.purpose,
        kind=reference.kind,
        time=parse_stamp(reference.time),
        sequence=reference.sequence,
        digest=taken.digest,
        parts=[
            PartHeld(name=part.name, documents=part.documents, bytes=part.bytes)
            for part in head.parts
        ],
        documents=reference.sizes.documents,
        size=reference.sizes.bytes,
        new_bytes=taken.written.bytes,
        unchanged=False,  # it is, if the backup before turns out to hold the same
        partial=reference.partial,
        account=head.reached.account,
        machine=head.machine,
        census=vault.secret.keyed_census(head.census) if vault.locked else head.census,
        findings=head.findings,
        left_out=head.left_out,
        certificates=head.certificates,
    )
    session.add(row)
    session.add(Copy(backup_id=row.id, store_id=store_id, since=row.time, digest=taken.digest))
    return row


async def newest_of(session: AsyncSession, system_id: str) -> Backup | None:
    """The newest backup that a restore of the system would rely on."""
    found = (
        select(Backup)
        .where(Backup.system_id == system_id, *GOOD)
        .order_by(Backup.sequence.desc())
        .limit(1)
    )
    return (await session.execute(found)).scalar_one_or_none()


def check_store_given(stores: list[StoreRow]) -> StoreRow:
    if len(stores) == 1:
        return stores[0]
    names = ", ".join(store.name for store in stores)
    raise MendSettings(
        "There is no store yet." if not stores else f"There are {len(stores)} stores: {names}.",
        "Add one with `fennox store add`." if not stores else "Say which one with --store.",
    )
