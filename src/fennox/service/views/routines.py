"""Routines as the API shows them, and previews of them."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import NotFound
from fennox.core.retention import ladder
from fennox.core.schedule import schedule
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import among
from fennox.service.retention import routines
from fennox.wire.base import Page
from fennox.wire.routines import Kept, RoutinePreview, RoutineShown, SystemPreview


async def shown(context: Context, session: AsyncSession, row: Routine) -> RoutineShown:
    await session.flush()
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


async def all_routines(context: Context, session: AsyncSession) -> Page[RoutineShown]:
    rows = (await session.execute(select(Routine).order_by(Routine.name))).scalars().all()
    return Page(items=[await shown(context, session, row) for row in rows])


async def preview(
    context: Context, session: AsyncSession, row: Routine, system: str | None = None
) -> RoutinePreview:
    """The next runs, and what keeps each backup of its first systems or of one system."""
    members, in_all = await _members(session, row, system)
    systems = await _kept_of(session, row, members, context.now())
    every = [item for shown in systems for item in shown.backups]
    next_runs = (
        schedule.parse(row.when, row.zone).coming(context.now(), 14) if row.mode == "on" else []
    )
    goes = sum(item.goes for item in every)
    return RoutinePreview(
        routine=row.name,
        next_runs=next_runs,
        systems=systems,
        in_all=in_all,
        stays=len(every) - goes,
        goes=goes,
    )


async def _members(
    session: AsyncSession, row: Routine, system: str | None
) -> tuple[list[System], int]:
    """Its first systems, or the named one; and its number of systems."""
    chosen = select(System).where(*selectors.taken(row.systems))
    in_all = (await session.execute(chosen.with_only_columns(func.count()))).scalar_one()
    if system is not None:
        chosen = chosen.where((System.name == system) | (System.id == system))
    first = await session.execute(chosen.order_by(System.name).limit(routines.FIRST))
    members = list(first.scalars())
    if system is not None and not members:
        raise NotFound(
            f"The routine {row.name} takes no system {system}.",
            f"It takes the systems selected by: {row.systems}.",
            field="system",
        )
    return members, in_all


async def _kept_of(
    session: AsyncSession, row: Routine, members: list[System], now: datetime
) -> list[SystemPreview]:
    ids = [system.id for system in members]
    standing = await routines.backups_of(session, ids)
    naming = select(Backup.id, Backup.name).where(
        among(Backup.system_id, ids), Backup.name != constant("")
    )
    names = {backup: name for backup, name in await session.execute(naming)}
    previews = []
    for member in members:
        backups = standing[member.id]
        why = routines.what_keeps(member, backups, [row], now)
        kept = [
            Kept(
                backup=item.id,
                name=names.get(item.id, ""),
                time=item.time,
                kept_by=[ladder.in_words(reason) for reason in why[item.id]],
                goes=not why[item.id],
                goes_at=ladder.goes(item.time, why[item.id]),
            )
            for item in backups
        ]
        previews.append(SystemPreview(system=member.name, backups=kept))
    return previews
