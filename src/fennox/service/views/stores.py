"""Stores as the API shows them."""

from __future__ import annotations

import asyncio

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.stores import KeySet, StoreDamage, StoreRow, StoreSpace
from fennox.catalogue.models.systems import Login
from fennox.core.errors import FennoxError
from fennox.core.format import header as headers
from fennox.core.time import parse_stamp
from fennox.service.concerns import estate_count
from fennox.service.machines.context import Context, named
from fennox.service.machines.doors import Door
from fennox.service.stores import store_warnings
from fennox.stores import addresses
from fennox.stores.base import Space, Store
from fennox.wire.base import Page
from fennox.wire.stores import (
    DamageShown,
    EntryShown,
    FolderShown,
    SlotShown,
    SpaceShown,
    StoreShown,
)

_PATIENCE = 5.0  # seconds a list of stores waits for a far side
_MOST_ENTRIES = 1000  # of a folder
_MOST_DAMAGE = 200
_MOST_LOOKS = 400  # of usage history


async def all_stores(context: Context) -> Page[StoreShown]:
    async with context.session() as session:
        rows = list((await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars())
    return Page(items=[await shown(context, row) for row in rows])


async def one(context: Context, name: str) -> StoreShown:
    async with context.session() as session:
        row = await named(session, StoreRow, name)
    return await shown(context, row)


async def shown(context: Context, row: StoreRow) -> StoreShown:
    async with context.session() as session:
        keys = await session.get_one(KeySet, (row.key_set, row.generation))
        header = headers.decode(row.header.encode())
        count, newest = (await estate_count.in_stores(context, session)).get(row.id, (0, None))
        warnings = await store_warnings.warnings(context, session, row, keys.custody)
        login = await session.get(Login, row.login_id) if row.login_id else None
        sweep = await session.get(Login, row.sweep_login_id) if row.sweep_login_id else None
        door = await context.stores.door(session, row, lately=True)
    space, complaint = await _space(context, row, door)
    if complaint:
        warnings.insert(0, complaint)
    return StoreShown(
        id=row.id,
        name=row.name,
        address=row.address,
        plain=addresses.parse(row.address).plain,
        login=login.name if login else None,
        sweep_login=sweep.name if sweep else None,
        key=row.key,
        site=row.site,
        key_set=keys.name,
        custody=keys.custody,
        suite=header.suite,
        generation=row.generation,
        plain_names=header.plain_names,
        passphrases=[
            SlotShown(id=slot.id, label=slot.label, since=parse_stamp(slot.since))
            for slot in header.slots
        ],
        created=row.created,
        backups=count,
        newest=newest,
        free=space.free if space else None,
        total=space.total if space else None,
        scrubbed=row.scrubbed,
        scrub_budget=row.scrub_budget,
        swept=row.swept,
        ceiling=row.ceiling,
        over_since=row.over_since,
        stopped_because=row.stopped_because,
        warnings=warnings,
    )


async def _space(context: Context, row: StoreRow, door: Door) -> tuple[Space | None, str]:
    """And why it is unknown, if so."""
    try:
        async with asyncio.timeout(_PATIENCE):
            return await (await context.stores.store(door)).space(), ""
    except TimeoutError:
        return None, f"{row.name} did not report its free space within {_PATIENCE:g} seconds."
    except FennoxError as error:
        return None, str(error)


async def folder(store: Store, path: str | None) -> FolderShown:
    entries = sorted(await store.entries(path), key=lambda entry: (not entry.folder, entry.name))
    names = {entry.name for entry in entries}
    return FolderShown(
        address=str(addresses.parse(store.address).at(path)) if path else store.address,
        landed=await store.landed(),
        is_store={"header", "rescue.py"} <= names,
        entries=[
            EntryShown(
                name=entry.name, folder=entry.folder, size=None if entry.folder else entry.size
            )
            for entry in entries[:_MOST_ENTRIES]
        ],
    )


async def damage(session: AsyncSession, row: StoreRow) -> Page[DamageShown]:
    """Newest first."""
    mine = select(StoreDamage).where(StoreDamage.store_id == row.id)
    query = mine.order_by(StoreDamage.id.desc()).limit(_MOST_DAMAGE)
    items = [
        DamageShown(
            object=item.object,
            what=item.what,
            backups=item.backups,
            found=item.found,
            healed=item.healed,
            how=item.how,
        )
        for item in (await session.execute(query)).scalars()
    ]
    return Page(items=items)


async def space_used(session: AsyncSession, row: StoreRow) -> Page[SpaceShown]:
    """Oldest first."""
    mine = select(StoreSpace).where(StoreSpace.store_id == row.id)
    query = mine.order_by(StoreSpace.at.desc()).limit(_MOST_LOOKS)
    looks = list((await session.execute(query)).scalars())[::-1]
    return Page(
        items=[
            SpaceShown(at=look.at, objects=look.objects, used=look.used, free=look.free)
            for look in looks
        ]
    )
