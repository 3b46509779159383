"""Comparisons: of two backups, or of one with the live system."""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput
from fennox.core.kinds.filling import for_system
from fennox.core.kinds.model import Kind
from fennox.engine.inspection.backup_comparison import Side, compare, live_side, side_of
from fennox.service.backups.open_backups import Shelf
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.queries.lookups import find_backup
from fennox.wire.comparing import Compared, ComparedBackup, CompareWanted


async def chosen(session: AsyncSession, wanted: CompareWanted) -> tuple[Backup, Backup | None]:
    """The two sides; without ``after`` it is the live system."""
    if wanted.before is not None:
        after = await find_backup(session, wanted.after) if wanted.after is not None else None
        return await find_backup(session, wanted.before), after
    assert wanted.system is not None
    system = await named(session, System, wanted.system)
    ours = select(Backup).where(Backup.system_id == system.id, Backup.purpose == constant("backup"))
    needed = 1 if wanted.live or wanted.since else 2
    newest = list((await session.execute(ours.order_by(Backup.sequence.desc()).limit(2))).scalars())
    if len(newest) < needed:
        less = "one is" if needed == 1 else "two are"
        raise BadInput(
            f"{system.name} has {len(newest)} backups; {less} needed to compare.",
            "Take another one.",
        )
    if wanted.since is None:
        return (newest[0], None) if wanted.live else (newest[1], newest[0])
    standing = ours.where(Backup.time <= wanted.since).order_by(Backup.sequence.desc()).limit(1)
    before = (await session.execute(standing)).scalar_one_or_none()
    if before is None:
        raise BadInput(
            f"No backup of {system.name} is as old as that.",
            "`fennox backup list` shows what there is.",
        )
    return before, None if wanted.live else newest[0]


async def side_shown(session: AsyncSession, row: Backup) -> ComparedBackup:
    system = await session.get_one(System, row.system_id)
    return ComparedBackup(id=row.id, system=system.name, name=row.name, time=row.time)


@dataclass(frozen=True)
class Sides:
    """``after``: None is the live system."""

    system: System
    login: Login | None
    before: Backup
    after: Backup | None
    shown: list[ComparedBackup]


async def sides(session: AsyncSession, wanted: CompareWanted) -> Sides:
    before, after = await chosen(session, wanted)
    shown = [await side_shown(session, row) for row in (before, after) if row is not None]
    system = await session.get_one(System, before.system_id)
    login = await session.get_one(Login, system.login_id) if system.login_id else None
    return Sides(system, login, before, after, shown)


async def compared(
    context: Context, found: Sides, wanted: CompareWanted, *, patches: bool
) -> Compared:
    """Reads the live system; keeps nothing of it."""
    system, shown = found.system, list(found.shown)
    kind = for_system(context.kinds.kind(found.before.kind)[0], dict(system.settings))
    shelf = Shelf(context, wanted.passphrase.get_secret_value() if wanted.passphrase else None)
    left = await side_of(await shelf.reader(found.before))
    if found.after is not None:
        right = await side_of(await shelf.reader(found.after))
    else:
        right = await _live(context, kind, found, left)
        shown.append(ComparedBackup(id="", system=system.name, name="", time=context.now()))
    comparison = await compare(
        kind,
        left,
        right,
        secrets.token_bytes(16),
        context.evaluators,
        patches=patches,
        only=wanted.only,
    )
    return Compared(before=shown[0], after=shown[1], comparison=comparison)


async def _live(context: Context, kind: Kind, found: Sides, left: Side) -> Side:
    system = found.system
    use = login_uses.of_system(kind, system, found.login)
    link = await context.machines.connect(kind, use, way_to(system))
    try:
        known = system.machine.id if system.machine else left.machine
        return await live_side(kind, link, dict(system.settings), left, known, context.readings)
    finally:
        await link.close()
