"""Changing and removing stores."""

from __future__ import annotations

from sqlalchemy import delete, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login
from fennox.core.errors import BadInput, Conflict
from fennox.core.retention import ceiling
from fennox.service.machines.context import Context, named
from fennox.wire.stores import StoreChange

OF_THE_PLACE = ("lost+found", ".snapshot", ".snapshots")  # files created by file systems themselves


async def change(session: AsyncSession, row: StoreRow, wanted: StoreChange) -> None:
    """Change how a store is reached; :func:`try_change` has tried it before."""
    if wanted.name is not None and wanted.name != row.name:
        other = await session.execute(select(StoreRow.id).where(StoreRow.name == wanted.name))
        if other.first() is not None:
            raise Conflict(
                f"There is a store {wanted.name} already.", "Choose another name.", field="name"
            )
        row.name = wanted.name
    if wanted.login is not None:
        row.login_id = (await named(session, Login, wanted.login)).id
    if wanted.sweep_login is not None:
        sweep = await named(session, Login, wanted.sweep_login) if wanted.sweep_login else None
        row.sweep_login_id = sweep.id if sweep else None
    if wanted.key is not None:
        row.key = wanted.key
    if wanted.site is not None:
        row.site = wanted.site
    if wanted.scrub_budget is not None:
        row.scrub_budget = wanted.scrub_budget
    if wanted.ceiling is not None:
        found = ceiling.parse(wanted.ceiling)
        row.ceiling, row.over_since = found.text if found else "", None
        none = {"let_go": False, "let_go_at": None}
        await session.execute(update(Copy).where(Copy.store_id == row.id).values(none))
    if _other_way(wanted):
        row.stopped_because = ""


def _other_way(wanted: StoreChange) -> bool:
    return wanted.login is not None or wanted.sweep_login is not None or wanted.key is not None


async def try_change(context: Context, name: str, wanted: StoreChange) -> None:
    """Try a change before it takes effect; keeps nothing."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        await change(session, row, wanted)
        await session.flush()
        doors = [
            await context.stores.door(session, row, removing=removing) for removing in (False, True)
        ]
        await session.rollback()
    if _other_way(wanted):
        for door in doors:
            await context.stores.vault(door)
    found = ceiling.parse(wanted.ceiling) if wanted.ceiling is not None else None
    if (
        found is not None
        and found.share is not None
        and await (await context.stores.store(doors[0])).space() is None
    ):
        raise BadInput(
            f"{name} does not report its free space.",
            "Give a size, like 500 GB.",
            field="ceiling",
        )


async def remove(session: AsyncSession, row: StoreRow) -> int:
    """Forget a store. Its content stays; backups stored nowhere else leave the catalogue
    with it.
    """
    users = (await session.execute(select(Routine))).scalars().all()
    using = sorted(
        routine.name for routine in users if row.id in (routine.store_id, *routine.copy_to)
    )
    if using:
        raise Conflict(
            f"The routine {using[0]} sends backups to {row.name}.", "Give it another store first."
        )
    active = select(Run.id).where(Run.store_id == row.id, IS_ACTIVE)
    if (await session.execute(active)).first() is not None:
        raise Conflict(f"A run is using {row.name}.", "Wait for it, or stop it.")
    elsewhere = select(Copy.backup_id).where(Copy.store_id != row.id)
    here = select(Copy.backup_id).where(Copy.store_id == row.id)
    only = list((await session.execute(here.where(Copy.backup_id.not_in(elsewhere)))).scalars())
    await session.execute(delete(Copy).where(Copy.store_id == row.id))
    await session.execute(delete(Backup).where(Backup.id.in_(only)))
    await session.execute(update(Run).where(Run.store_id == row.id).values(store_id=None))
    await session.delete(row)
    await session.flush()
    if (
        await session.execute(select(StoreRow.id).where(StoreRow.key_set == row.key_set))
    ).first() is None:
        # a key set is removed with its last store; adopting a store brings its keys back
        await session.execute(delete(KeySet).where(KeySet.id == row.key_set))
    return len(only)
