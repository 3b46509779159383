"""Routines and the preview of their ladders."""

from __future__ import annotations

import contextlib
import secrets

from fastapi import APIRouter, Header, Request, Response
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict, NotFound
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.retention import ladder
from fennox.core.schedule import schedule
from fennox.service.access_control import audit
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.http.routes.systems.systems import check_match
from fennox.service.machines.context import Context, named
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import among
from fennox.service.retention import forecast, routines
from fennox.service.runs import new_runs
from fennox.wire.base import Page
from fennox.wire.routines import (
    Coming,
    Kept,
    NewRoutine,
    RoutineChange,
    RoutinePreview,
    RoutineShown,
    SystemPreview,
)

router = APIRouter(tags=["routines"])


async def _shown(context: Context, session: AsyncSession, row: Routine) -> RoutineShown:
    store = await session.get_one(StoreRow, row.store_id)
    members, in_all = await routines.first_members(session, row)
    last = (
        select(Run.due)
        .where(Run.routine_id == row.id, Run.due.is_not(None))
        .order_by(Run.due.desc())
        .limit(1)
    )
    return RoutineShown(
        id=row.id,
        name=row.name,
        systems=row.systems,
        when=row.when,
        zone=row.zone,
        store=store.name,
        copy_to=[(await session.get_one(StoreRow, further)).name for further in row.copy_to],
        ladder=row.ladder,
        mode=row.mode,
        parts=row.parts,
        spread=row.spread,
        quiet=row.quiet,
        look_every=row.look_every,
        settle=row.settle,
        most_a_day=row.most_a_day,
        created=row.created,
        next_run=routines.next_run(row, context.now()),
        members=members,
        in_all=in_all,
        last_due=(await session.execute(last)).scalar_one_or_none(),
    )


def _phrase(text: str) -> str:
    """As it is kept: phrases in lower case, rules of RFC 5545 in the case they have."""
    text = text.strip()
    return text.upper() if text[:6].lower() in ("rrule:", "dtstar") else text.lower()


async def _made(context: Context, session: AsyncSession, wanted: NewRoutine) -> Routine:
    selectors.check_selector(wanted.systems)
    schedule.parse(_phrase(wanted.when), wanted.zone)
    schedule.quiet_hours(wanted.quiet)
    now = context.now()
    return Routine(
        id=secrets.token_hex(16),
        name=wanted.name,
        systems=wanted.systems,
        when=_phrase(wanted.when),
        zone=wanted.zone,
        store_id=(await named(session, StoreRow, wanted.store)).id,
        copy_to=[(await named(session, StoreRow, further)).id for further in wanted.copy_to],
        ladder=str(ladder.parse(wanted.ladder)),
        mode=wanted.mode,
        parts=wanted.parts,
        spread=wanted.spread,
        quiet=wanted.quiet.strip(),
        look_every=wanted.look_every,
        settle=wanted.settle,
        most_a_day=wanted.most_a_day,
        created=now,
        decided_until=now,
        version=1,
    )


async def _preview(
    context: Context, session: AsyncSession, row: Routine, system: str | None = None
) -> RoutinePreview:
    found = []
    chosen = select(System).where(*selectors.selected(row.systems))
    in_all = (await session.execute(chosen.with_only_columns(func.count()))).scalar_one()
    if system is not None:
        chosen = chosen.where((System.name == system) | (System.id == system))
    members = (
        (await session.execute(chosen.order_by(System.name).limit(routines.FIRST))).scalars().all()
    )
    if system is not None and not members:
        raise NotFound(
            f"The routine {row.name} takes no system {system}.",
            f"It takes what fits: {row.systems}.",
            field="system",
        )
    ids = [system.id for system in members]
    standing = await routines.backups_of(session, ids)
    naming = select(Backup.id, Backup.name).where(
        among(Backup.system_id, ids), Backup.name != constant("")
    )
    names = {backup: name for backup, name in await session.execute(naming)}
    for member in members:
        backups = standing[member.id]
        why = routines.what_keeps(member, backups, [row], context.now())
        found.append(
            SystemPreview(
                system=member.name,
                backups=[
                    Kept(
                        backup=item.id,
                        name=names.get(item.id, ""),
                        time=item.time,
                        kept_by=[ladder.in_words(reason) for reason in why[item.id]],
                        goes=not why[item.id],
                        goes_at=ladder.goes(item.time, why[item.id]),
                    )
                    for item in backups
                ],
            )
        )
    every = [item for shown in found for item in shown.backups]
    next_runs = (
        schedule.parse(row.when, row.zone).coming(context.now(), 14) if row.mode == "on" else []
    )
    goes = sum(item.goes for item in every)
    return RoutinePreview(
        routine=row.name,
        next_runs=next_runs,
        systems=found,
        in_all=in_all,
        stays=len(every) - goes,
        goes=goes,
    )


@router.get("/routines")
async def list_routines(context: Here) -> Page[RoutineShown]:
    """All routines."""
    async with context.session() as session:
        rows = (await session.execute(select(Routine).order_by(Routine.name))).scalars()
        return Page(items=[await _shown(context, session, row) for row in rows])


@router.post("/routines", status_code=201)
async def add_routine(
    wanted: NewRoutine, request: Request, context: Here, who: Who
) -> RoutineShown:
    """Make a routine; it begins with its next due time."""
    await context.evaluators.check_schedule(_phrase(wanted.when), wanted.zone)
    async with context.session() as session:
        if (
            await session.execute(select(Routine).where(Routine.name == wanted.name))
        ).first() is not None:
            raise Conflict(
                f"The routine {wanted.name} is already there.", "Change it, or choose another name."
            )
        row = await _made(context, session, wanted)
        session.add(row)
        await audit.note(
            session, request, "added", "routine", row.name, when=row.when, systems=row.systems
        )
        await session.flush()
        if wanted.run_now:
            await _take_now(context, session, row, who.name)
        return await _shown(context, session, row)


async def _take_now(context: Context, session: AsyncSession, row: Routine, by: str) -> None:
    """One take of each of its systems; one that is busy is left to its next due time."""
    for system in await routines.members(session, row):
        with contextlib.suppress(Conflict):
            await new_runs.enqueue(
                session,
                TakeOrder(parts=row.parts),
                new_runs.About(
                    system_id=system.id,
                    store_id=row.store_id,
                    routine_id=row.id,
                    backup_id=secrets.token_hex(16),
                ),
                by=by,
                now=context.now(),
            )


@router.get("/routines/coming")
async def coming_runs(context: Here) -> Coming:
    """The load of the coming two weeks by hours, and which runs of a system will have to wait for
    another.
    """
    async with context.session() as session:
        return await forecast.coming(context, session)


@router.get("/routines/calendar", response_class=Response)
async def calendar_of_runs(context: Here) -> Response:
    """Coming runs as an iCalendar (RFC 5545), one event for each routine and due time."""
    async with context.session() as session:
        return Response(await forecast.calendar(context, session), media_type="text/calendar")


@router.post("/routines/preview")
async def preview_new(wanted: NewRoutine, context: Here) -> RoutinePreview:
    """What a routine would do, before it is saved."""
    await context.evaluators.check_schedule(_phrase(wanted.when), wanted.zone)
    async with context.session() as session:
        return await _preview(context, session, await _made(context, session, wanted))


@router.get("/routines/{name}")
async def show_routine(name: str, response: Response, context: Here) -> RoutineShown:
    """One routine. Its ETag goes with changes."""
    async with context.session() as session:
        row = await named(session, Routine, name)
        response.headers["etag"] = f'"{row.version}"'
        return await _shown(context, session, row)


@router.patch("/routines/{name}")
async def change_routine(
    name: str,
    wanted: RoutineChange,
    request: Request,
    context: Here,
    if_match: str | None = Header(default=None),
) -> RoutineShown:
    """Change a routine, switch it on or off, or leave it by hand only on purpose."""
    if wanted.when is not None:
        await context.evaluators.check_schedule(_phrase(wanted.when), wanted.zone or "UTC")
    async with context.session() as session:
        row = await named(session, Routine, name)
        await session.refresh(row, with_for_update=True)
        check_match(if_match, row.version)
        if wanted.systems is not None:
            selectors.check_selector(wanted.systems)
            row.systems = wanted.systems
        when, zone = (
            _phrase(wanted.when) if wanted.when is not None else row.when,
            wanted.zone or row.zone,
        )
        schedule.parse(when, zone)
        row.when, row.zone = when, zone
        if wanted.quiet is not None:
            schedule.quiet_hours(wanted.quiet)
            row.quiet = wanted.quiet.strip()
        if wanted.spread is not None:
            row.spread = wanted.spread
        for field in ("look_every", "settle", "most_a_day"):
            if getattr(wanted, field) is not None:
                setattr(row, field, getattr(wanted, field))
        if wanted.parts is not None:
            row.parts = wanted.parts or None
        if wanted.copy_to is not None:
            row.copy_to = [
                (await named(session, StoreRow, further)).id for further in wanted.copy_to
            ]
        if wanted.store is not None:
            row.store_id = (await named(session, StoreRow, wanted.store)).id
        if wanted.ladder is not None:
            row.ladder = str(ladder.parse(wanted.ladder))
        if wanted.mode is not None:
            row.mode = wanted.mode
        row.decided_until = context.now()  # what was due before the change is not caught up
        row.version += 1
        await audit.note(
            session,
            request,
            "changed",
            "routine",
            row.name,
            what=", ".join(wanted.model_fields_set),
        )
        await session.flush()
        return await _shown(context, session, row)


@router.delete("/routines/{name}", status_code=204)
async def remove_routine(name: str, request: Request, context: Here) -> None:
    """Remove a routine; its backups stay."""
    async with context.session() as session:
        row = await named(session, Routine, name)
        await session.delete(row)
        await audit.note(session, request, "removed", "routine", row.name)


@router.get("/routines/{name}/preview")
async def preview_routine(name: str, context: Here, system: str | None = None) -> RoutinePreview:
    """The next runs, and for each backup of its first systems, or of one system, what keeps it."""
    async with context.session() as session:
        return await _preview(context, session, await named(session, Routine, name), system)
