"""Stores and logins."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import APIRouter, Body, Query, Request
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.stores import KeySet, StoreDamage, StoreRow, StoreSpace
from fennox.catalogue.models.systems import Login
from fennox.core.errors import FennoxError
from fennox.core.facts.run_orders import ScrubOrder, SweepOrder
from fennox.core.format import header as headers
from fennox.core.time import parse_stamp
from fennox.service.access_control import audit
from fennox.service.concerns import estate_count
from fennox.service.http.routes.backups.runs import run_shown
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context, named
from fennox.service.stores import store_change, store_making, store_test, store_warnings
from fennox.service.upkeep import store_runs, sweep_run
from fennox.stores import addresses
from fennox.stores.base import Store
from fennox.wire.backups import MarkedShown
from fennox.wire.base import Page
from fennox.wire.runs import RunShown
from fennox.wire.stores import (
    DamageShown,
    EntryShown,
    FolderShown,
    Forgotten,
    Look,
    NewStore,
    SlotShown,
    SpaceShown,
    StoreChange,
    StoreCheck,
    StoreShown,
    StoreTest,
)

_PATIENCE = 5.0  # seconds that a list of stores waits for a far side
_MOST = 1000  # entries of a folder that are shown

router = APIRouter(tags=["stores"])


async def _shown(context: Context, row: StoreRow) -> StoreShown:
    async with context.session() as session:
        keys = await session.get_one(KeySet, (row.key_set, row.generation))
        header = headers.decode(row.header.encode())
        count, newest = (await estate_count.in_stores(context, session)).get(row.id, (0, None))
        warnings = await store_warnings.warnings(context, session, row, keys.custody)
        login = await session.get(Login, row.login_id) if row.login_id else None
        sweep = await session.get(Login, row.sweep_login_id) if row.sweep_login_id else None
        door = await context.stores.door(session, row, lately=True)
    space = None
    try:
        async with asyncio.timeout(_PATIENCE):
            space = await (await context.stores.store(door)).space()
    except TimeoutError:
        warnings.insert(0, f"{row.name} did not tell its free space within {_PATIENCE:g} seconds.")
    except FennoxError as error:
        warnings.insert(0, str(error))
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


async def _all(session: AsyncSession) -> list[StoreRow]:
    return list((await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars())


@router.get("/stores")
async def list_stores(context: Here) -> Page[StoreShown]:
    """All stores."""
    async with context.session() as session:
        rows = await _all(session)
    return Page(items=[await _shown(context, row) for row in rows])


@router.post("/stores", status_code=201)
async def add_store(wanted: NewStore, request: Request, context: Here) -> StoreShown:
    """Make a store in an empty place; a host key or certificate that is new must be accepted."""
    made = await store_making.make(context, wanted)
    async with context.session() as session:
        row = await store_making.enter(session, made, wanted)
        await audit.note(session, request, "added", "store", row.name, address=row.address)
    return await _shown(context, row)


@router.post("/stores/look")
async def look(wanted: Look, context: Here) -> FolderShown:
    """See any folder of a far side before it becomes a store."""
    async with context.session() as session:
        login = await named(session, Login, wanted.login) if wanted.login else None
    store = context.stores.far_side(wanted.address, login, wanted.key)
    try:
        return await _folder(store, None)
    finally:
        await store.close()


async def _folder(store: Store, path: str | None) -> FolderShown:
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
            for entry in entries[:_MOST]
        ],
    )


@router.get("/stores/{name}/folder")
async def browse_store(
    name: str, context: Here, folder: Annotated[str | None, Query(max_length=1024)] = None
) -> FolderShown:
    """What lies in a store, or elsewhere on its far side."""
    async with context.session() as session:
        door = await context.stores.door(session, await named(session, StoreRow, name), lately=True)
    return await _folder(await context.stores.store(door), folder)


@router.get("/stores/{name}")
async def show_store(name: str, context: Here) -> StoreShown:
    """One store."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
    return await _shown(context, row)


@router.patch("/stores/{name}")
async def change_store(
    name: str, wanted: StoreChange, request: Request, context: Here
) -> StoreShown:
    """Change a store's name, site or login, or accept a changed host key, certificate or mount."""
    await store_change.try_change(context, name, wanted)
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        await store_change.change(session, row, wanted)
        told = {
            f"new_{field}": str(value)
            for field, value in wanted.model_dump(exclude_none=True).items()
        }
        await audit.note(session, request, "changed", "store", row.name, **told)
    return await _shown(context, row)


@router.delete("/stores/{name}")
async def remove_store(name: str, request: Request, context: Here) -> Forgotten:
    """Forget a store; what lies in it stays there and can be adopted again."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        lost = await store_change.remove(session, row)
        await audit.note(session, request, "removed", "store", row.name, backups=str(lost))
        return Forgotten(backups=lost)


@router.post("/stores/{name}/scrub", status_code=202)
async def scrub_store(name: str, context: Here, who: Who) -> RunShown:
    """Read and check every object of a store, and heal from other copies what is damaged."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        run = await store_runs.enqueue_for_store(context, session, ScrubOrder(), row, who.name)
        await session.refresh(run)
        return await run_shown(context, session, run)


@router.post("/stores/{name}/sweep", status_code=202)
async def sweep_store(
    name: str,
    request: Request,
    context: Here,
    who: Who,
    preview: bool = False,
    confirmed: Annotated[list[str] | None, Body(embed=True, max_length=100_000)] = None,
) -> RunShown:
    """Give back the room of what nothing keeps; with ``preview`` only say what would go.

    ``confirmed``: ids of marked backups that may go although they are the newest, or unusually
    many.
    """
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        sure = sorted(set(confirmed or []))
        run = await store_runs.enqueue_for_store(
            context, session, SweepOrder(preview=preview, confirmed=sure), row, who.name
        )
        if not preview:
            await audit.note(
                session, request, "swept", "store", row.name, run=run.id, confirmed=", ".join(sure)
            )
        await session.refresh(run)
        return await run_shown(context, session, run)


@router.get("/stores/{name}/marked")
async def list_marked(name: str, context: Here) -> Page[MarkedShown]:
    """Backups that are marked to go from a store, and what each waits for; all of them can still be
    kept.
    """
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        return Page(items=await sweep_run.marked(session, row, context.now()))


@router.get("/stores/{name}/damage")
async def store_damage(name: str, context: Here) -> Page[DamageShown]:
    """What was found damaged in a store, newest first, and how it was healed."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        query = (
            select(StoreDamage)
            .where(StoreDamage.store_id == row.id)
            .order_by(StoreDamage.id.desc())
            .limit(200)
        )
        return Page(
            items=[
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
        )


@router.get("/stores/{name}/space")
async def store_space(name: str, context: Here) -> Page[SpaceShown]:
    """How full a store was, oldest look first."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        query = (
            select(StoreSpace)
            .where(StoreSpace.store_id == row.id)
            .order_by(StoreSpace.at.desc())
            .limit(400)
        )
        looks = list((await session.execute(query)).scalars())[::-1]
        return Page(
            items=[SpaceShown(at=x.at, objects=x.objects, used=x.used, free=x.free) for x in looks]
        )


@router.post("/stores/{name}/test")
async def test_store(name: str, context: Here) -> StoreTest:
    """Prove a store: list, write, read back, refuse to overwrite, delete, and open its header."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        door, removing = (
            await context.stores.door(session, row),
            await context.stores.door(session, row, removing=True),
        )
    tested = await store_test.test(
        await context.stores.store(door), await context.stores.store(removing), context.wall()
    )
    if tested.passed:
        try:
            await context.stores.vault(door)
        except FennoxError as error:
            check = StoreCheck(title="The header is ours", passed=False, detail=str(error))
        else:
            check = StoreCheck(title="The header is ours", passed=True, detail="as pinned")
        tested = StoreTest(passed=check.passed, checks=[*tested.checks, check])
    return tested
