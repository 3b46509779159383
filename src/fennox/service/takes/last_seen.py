"""Data for later looks: stored at each take, as digests keyed with the write secret."""

from __future__ import annotations

from sqlalchemy import update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import StateRow, System
from fennox.engine.backups.vault import Vault
from fennox.engine.takes.look import Difference, blinded, difference
from fennox.engine.takes.take_order import Taken

AS_ITS_BACKUP: dict[str, object] = {
    "differs": "",
    "differs_since": None,
    "differs_state": "",
    "differs_still": None,
}
"""A system that is what its last backup holds, as far as is known."""


async def remember(
    session: AsyncSession, system: str, taken: Taken, vault: Vault
) -> Difference | None:
    """Store what the next look and take compare with; other parts are unchanged. Returns the
    difference to the stored state of these parts; None if some had none.
    """
    backup, plain, likeness = taken.reference.backup, taken.plain, taken.likeness
    if taken.as_before:
        known = (
            update(StateRow)
            .where(StateRow.system_id == system)
            .values(backup_id=backup, likeness=likeness)
        )
        await session.execute(known.execution_options(synchronize_session=False))
        return Difference([], [], 0)
    held = await session.get(StateRow, system, with_for_update=True)
    # an earlier attempt made the backup, and its reading is lost: no looks until the next take
    if not plain:
        if held is not None:
            await session.delete(held)
        return None
    keys, generation = vault.header.key_set, vault.header.generation
    parts = blinded(plain, vault.secret)
    if held is None:
        held = StateRow(system_id=system, key_set=keys, generation=generation, parts={})
        session.add(held)
    kept = held.parts if (held.key_set, held.generation) == (keys, generation) else {}
    held.key_set, held.generation, held.parts = keys, generation, {**kept, **parts}
    held.backup_id, held.likeness = backup, likeness
    return difference(kept, plain, vault.secret) if parts.keys() <= kept.keys() else None


def same(system: System) -> None:
    """Record that the system equals its last backup."""
    for name, value in AS_ITS_BACKUP.items():
        setattr(system, name, value)
