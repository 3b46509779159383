"""Damage in a store: reported by document, and recorded until healed."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Copy
from fennox.catalogue.models.stores import StoreDamage, StoreRow
from fennox.core.errors import FennoxError
from fennox.core.words import first_few
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.record_lists import raise_unless_damage
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.faults import (
    Fault,
    Report,
    damaged_documents,
)
from fennox.engine.stores.heal import Healed
from fennox.service.machines.context import Context

MOST_OPENED = 5  # damaged backups whose documents a scrub names


MOST_NAMED = 20  # objects or documents listed individually in a log


async def tell(report: Report, journal: Journal) -> None:
    for fault in report.faults[:MOST_NAMED]:
        await journal.log("error", f"{fault.object}: {fault.what}")
    if len(report.faults) > MOST_NAMED:
        await journal.log("error", f"and {len(report.faults) - MOST_NAMED} more objects")


async def name_documents(here: Holding, report: Report, backup: str, journal: Journal) -> None:
    """Damage by document, if the opening key is available."""
    record = report.records.get(backup)
    if record is None:
        return
    if here.vault.locked:
        await journal.log(
            "warning",
            "Which documents it costs is known only with the passphrase: verify the backup.",
        )
        return
    try:
        documents = await damaged_documents(BackupReader(here.vault, here.index, record))
    except FennoxError as error:
        await raise_unless_damage(here.vault, error)
        await journal.log("error", f"Its manifest cannot be read: {error.what}")
        return
    lost = f"Documents of it that are lost: {first_few(documents, MOST_NAMED)}"
    await journal.log(
        "error",
        lost if documents else "Every document of it can be read; the list of its chunks is lost.",
    )


async def keep_damage(
    context: Context, session: AsyncSession, row: StoreRow, report: Report, healed: Healed
) -> None:
    """Record new damage, close healed damage, and mark incomplete copies."""
    now = context.now()
    known = await open_damage(session, row)
    for fault in report.faults:
        item = known.pop(fault.object, None) or entered(session, row, fault, now)
        costs = report.costs.get(fault.object, set())
        item.backups = sorted(
            costs if fault.object in healed.objects else costs & healed.left.keys()
        )
        if fault.object in healed.objects:
            item.healed, item.how = now, healed.objects[fault.object]
    for item in known.values():
        # records no store has
        gone = item.object.startswith("systems/") and item.object.count("/") == 1
        item.healed, item.how = (
            now,
            "they stay lost; the store continues without them" if gone else "no longer found",
        )
    whole = update(Copy).where(
        Copy.store_id == row.id, Copy.damaged != "", Copy.backup_id.not_in(list(healed.left))
    )
    await session.execute(whole.values(damaged="").execution_options(synchronize_session=False))
    for backup, why in healed.left.items():
        one = update(Copy).where(Copy.store_id == row.id, Copy.backup_id == backup)
        await session.execute(one.values(damaged=why).execution_options(synchronize_session=False))


async def open_damage(session: AsyncSession, row: StoreRow) -> dict[str, StoreDamage]:
    """Unhealed damage by object."""
    rows = select(StoreDamage).where(StoreDamage.store_id == row.id, StoreDamage.healed.is_(None))
    return {item.object: item for item in (await session.execute(rows)).scalars()}


def entered(session: AsyncSession, row: StoreRow, fault: Fault, now: datetime) -> StoreDamage:
    item = StoreDamage(
        store_id=row.id, object=fault.object, what=fault.what, backups=[], found=now, how=""
    )
    session.add(item)
    return item
