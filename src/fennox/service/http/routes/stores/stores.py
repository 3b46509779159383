"""Stores and logins."""

from __future__ import annotations

from typing import Annotated

from fastapi import Body, Query, Request

from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login
from fennox.core.facts.run_orders import ScrubOrder, SweepOrder
from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import named
from fennox.service.stores import store_change, store_making, store_test
from fennox.service.upkeep import store_runs, sweep_run
from fennox.service.views import runs as run_views
from fennox.service.views import stores as store_views
from fennox.wire.backups import MarkedShown
from fennox.wire.base import Page
from fennox.wire.stores import (
    DamageShown,
    FolderShown,
    Forgotten,
    Look,
    NewStore,
    SpaceShown,
    StoreChange,
    StoreShown,
    StoreTest,
)
from fennox.wire.watch.runs import RunShown

router = api_router("stores")


@router.get("/stores")
async def list_stores(context: Here) -> Page[StoreShown]:
    """All stores."""
    return await store_views.all_stores(context)


@router.post("/stores", status_code=201)
async def add_store(wanted: NewStore, request: Request, context: Here) -> StoreShown:
    """Make a store in an empty place; a new host key or certificate must be accepted."""
    made = await store_making.make(context, wanted)
    async with context.session() as session:
        row = await store_making.enter(session, made, wanted)
        await audit.note(session, request, "added", "store", row.name, address=row.address)
    return await store_views.shown(context, row)


@router.post("/stores/look")
async def look(wanted: Look, context: Here) -> FolderShown:
    """Browse a far side's folders before making a store."""
    async with context.session() as session:
        login = await named(session, Login, wanted.login) if wanted.login else None
    store = context.stores.far_side(wanted.address, login, wanted.key)
    try:
        return await store_views.folder(store, None)
    finally:
        await store.close()


@router.get("/stores/{name}/folder")
async def browse_store(
    name: str, context: Here, folder: Annotated[str | None, Query(max_length=1024)] = None
) -> FolderShown:
    """The content of a store's folder, or of another folder on its far side."""
    async with context.session() as session:
        door = await context.stores.door(session, await named(session, StoreRow, name), lately=True)
    return await store_views.folder(await context.stores.store(door), folder)


@router.get("/stores/{name}")
async def show_store(name: str, context: Here) -> StoreShown:
    """One store."""
    return await store_views.one(context, name)


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
    return await store_views.shown(context, row)


@router.delete("/stores/{name}")
async def remove_store(name: str, request: Request, context: Here) -> Forgotten:
    """Forget a store; its content stays and can be adopted again."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        lost = await store_change.remove(session, row)
        await audit.note(session, request, "removed", "store", row.name, backups=str(lost))
        return Forgotten(backups=lost)


@router.post("/stores/{name}/scrub", status_code=202)
async def scrub_store(name: str, context: Here, who: Who) -> RunShown:
    """Read and check every object of a store, and heal damage from other copies."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        run = await store_runs.enqueue_for_store(context, session, ScrubOrder(), row, who.name)
        return await run_views.fresh(context, session, run)


@router.post("/stores/{name}/sweep", status_code=202)
async def sweep_store(
    name: str,
    request: Request,
    context: Here,
    who: Who,
    preview: bool = False,
    confirmed: Annotated[list[str] | None, Body(embed=True, max_length=100_000)] = None,
) -> RunShown:
    """Remove what nothing keeps and free its space; with ``preview`` only report it. ``confirmed``:
    ids of marked backups to remove although they are the newest, or unusually many.
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
        return await run_views.fresh(context, session, run)


@router.get("/stores/{name}/marked")
async def list_marked(name: str, context: Here) -> Page[MarkedShown]:
    """Backups marked for removal from a store, and what each waits for; all can still be kept."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        return Page(items=await sweep_run.marked(session, row, context.now()))


@router.get("/stores/{name}/damage")
async def store_damage(name: str, context: Here) -> Page[DamageShown]:
    """Damage found in a store, newest first, and how it was healed."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        return await store_views.damage(session, row)


@router.get("/stores/{name}/space")
async def store_space(name: str, context: Here) -> Page[SpaceShown]:
    """A store's usage history, oldest first."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        return await store_views.space_used(session, row)


@router.post("/stores/{name}/test")
async def test_store(name: str, context: Here) -> StoreTest:
    """Prove a store: list, write, read back, refuse to overwrite, delete, and open its header."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        door, removing = (
            await context.stores.door(session, row),
            await context.stores.door(session, row, removing=True),
        )
    store, remover = await context.stores.store(door), await context.stores.store(removing)
    tested = await store_test.test(store, remover, context.wall())
    return await store_test.with_header(context, door, tested) if tested.passed else tested
