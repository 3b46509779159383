"""What a look compares a system with: kept at each take, as digests under the write secret."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import StateRow, System
from fennox.engine.looks import Plain, blinded
from fennox.engine.vault import Vault


async def remember(session: AsyncSession, system: System, backup: str, plain: Plain, vault: Vault) -> None:
    """Keep what the next look compares with; parts that were not taken stay as they were."""
    held = await session.get(StateRow, system.id, with_for_update=True)
    same(system)
    if not plain:  # an earlier attempt made the backup, and what it read is gone: until the next take nobody looks
        if held is not None:
            await session.delete(held)
        return
    keys, generation = vault.header.key_set, vault.header.generation
    parts = blinded(plain, vault.secret)
    if held is None:
        held = StateRow(system_id=system.id, backup_id=backup, key_set=keys, generation=generation, parts=parts)
        session.add(held)
    elif (held.key_set, held.generation) == (keys, generation):
        held.backup_id, held.parts = backup, {**held.parts, **parts}
    else:
        held.backup_id, held.key_set, held.generation, held.parts = backup, keys, generation, parts


def same(system: System) -> None:
    """It is what its last backup holds, as far as is known."""
    system.differs, system.differs_since = "", None
    system.differs_state, system.differs_still = "", None
