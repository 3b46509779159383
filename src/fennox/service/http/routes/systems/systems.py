"""Systems."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Header, Query, Request, Response

from fennox.catalogue.models.systems import Login, System
from fennox.core.facts.return_order import in_order
from fennox.service.access_control import audit
from fennox.service.http.edit_conflicts import check_match, etag
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import locked, named
from fennox.service.queries.paging import After, Limit
from fennox.service.restores.hazards import hazards_of
from fennox.service.systems import new_system, probe, system_changes
from fennox.service.systems.relations import relations
from fennox.service.views import systems as system_views
from fennox.service.views.systems import SystemFilter, SystemOrder
from fennox.wire.base import Page
from fennox.wire.machines.enrolling import Confirmed, NewSystem, Probe, SystemChange
from fennox.wire.machines.hazards import Hazards
from fennox.wire.machines.relations import Relations, ReturnOrder
from fennox.wire.machines.systems import SystemName, SystemShown

router = api_router("systems")


def _filter(
    kind: str | None = None,
    site: str | None = None,
    label: str | None = None,
    q: Annotated[
        str, Query(max_length=200, description="Words that must all be in what it says of itself.")
    ] = "",
    retired: Annotated[
        bool | None, Query(description="Only those that are no more, or only the others.")
    ] = None,
    spare: Annotated[bool | None, Query(description="Only spares, or none of them.")] = None,
) -> SystemFilter:
    return SystemFilter(kind, site, label, q, retired, spare)


@router.get("/systems")
async def list_systems(
    context: Here,
    chosen: Annotated[SystemFilter, Depends(_filter)],
    sort: SystemOrder = "name",
    down: bool = False,
    limit: Limit = 100,
    after: After = None,
) -> Page[SystemShown]:
    """The estate; filters by kind, site, label and words (of name, kind, site, address and
    labels).
    """
    async with context.session() as session:
        return await system_views.page(
            context, session, chosen, sort, down=down, limit=limit, after=after
        )


@router.get("/system-names")
async def list_system_names(context: Here) -> Page[SystemName]:
    """All systems for a selection list, without further details."""
    async with context.session() as session:
        return await system_views.names(session)


@router.post("/systems", status_code=201)
async def add_system(wanted: NewSystem, request: Request, context: Here, who: Who) -> SystemShown:
    """Enrol a system: connects to it, checks its key, and reads its identity."""
    row = await new_system.new_system(context, wanted, who)
    async with context.session() as session:
        await new_system.add(session, row)
        await audit.note(
            session, request, "enrolled", "system", row.name, address=row.address, key=row.key
        )
        return await system_views.one(context, session, row)


@router.get("/systems/{name}")
async def show_system(name: str, response: Response, context: Here) -> SystemShown:
    """One system. Send its ETag with changes."""
    async with context.session() as session:
        row = await named(session, System, name)
        response.headers["etag"] = etag(row.version)
        return await system_views.one(context, session, row)


@router.patch("/systems/{name}")
async def change_system(
    name: str,
    wanted: SystemChange,
    request: Request,
    response: Response,
    context: Here,
    if_match: str | None = Header(default=None),
) -> SystemShown:
    """Change a system; with If-Match only if nobody else changed it since."""
    async with context.session() as session:
        row = await locked(session, System, name)
        check_match(if_match, row.version)
        await system_changes.change(context, session, row, wanted)
        response.headers["etag"] = etag(row.version)
        changed = ", ".join(sorted(wanted.model_fields_set))
        await audit.note(session, request, "changed", "system", row.name, what=changed)
        return await system_views.one(context, session, row)


@router.get("/systems/{name}/relations")
async def show_relations(name: str, context: Here) -> Relations:
    """A system's dependencies, dependants, replication peers, and certificates."""
    async with context.session() as session:
        row = await named(session, System, name)
        return await system_views.relations_of(context, session, row)


@router.get("/systems/{name}/hazards")
async def show_hazards(name: str, context: Here) -> Hazards:
    """What a restore of a system meets that can go wrong, and when that was met before."""
    async with context.session() as session:
        row = await named(session, System, name)
        return await hazards_of(session, row, context.kinds.kind(row.kind)[0])


@router.get("/return-order")
async def return_order(context: Here) -> ReturnOrder:
    """The order in which systems must be restored if everything is lost."""
    async with context.session() as session:
        every = await relations(context, session)
    order = in_order({name: related.needs for name, related in every.items()})
    return ReturnOrder(waves=order.waves, circles=order.circles)


@router.post("/systems/{name}/probe")
async def probe_system(name: str, request: Request, context: Here) -> Probe:
    """Read a live system's identity; stores nothing."""
    async with context.session() as session:
        row = await named(session, System, name)
        login = await probe.login_of(session, row)
        await audit.note(session, request, "probed", "system", row.name, **_reached(row, login))
    return await probe.probe(context, row, login)


def _reached(row: System, login: Login | None) -> dict[str, str]:
    return {
        "address": row.address,
        "login": login.name if login is not None else "none",
        "key": row.key,
    }


@router.post("/systems/{name}/confirm")
async def confirm_system(
    name: str, wanted: Confirmed, request: Request, context: Here
) -> SystemShown:
    """Confirm that the present machine is this system; its backups continue under the new
    identity.
    """
    async with context.session() as session:
        row = await named(session, System, name)
        kind, _ = context.kinds.kind(row.kind)
        if not kind.is_reached:
            probe.confirm_by_hand(row, wanted.machine)
            await audit.note(session, request, "confirmed", "system", row.name, now=wanted.machine)
            return await system_views.one(context, session, row)
    found = await probe_system(name, request, context)
    async with context.session() as session:
        row = await named(session, System, name)
        before = probe.confirm(row, found, wanted.machine)
        await audit.note(
            session, request, "confirmed", "system", row.name, before=before, now=wanted.machine
        )
        return await system_views.one(context, session, row)
