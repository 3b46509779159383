"""Backups as the API shows them."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime

from sqlalchemy import or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy, PendingNote, Removal
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.evidence.usefulness import worth
from fennox.core.kinds.model import Kind
from fennox.core.restoring import proving
from fennox.core.retention import ladder
from fennox.core.retention.ladder import Reason
from fennox.core.schedule import moments
from fennox.engine.backups.backup_reader import BackupReader
from fennox.service.machines.context import Context, named
from fennox.service.queries import selectors
from fennox.service.queries.lookups import find_backup
from fennox.service.queries.newest_good import among
from fennox.service.queries.paging import newest_first
from fennox.service.retention import routines
from fennox.wire.backups import (
    BackupShown,
    CopyShown,
    DocumentShown,
    RemovalShown,
)
from fennox.wire.base import Page


async def shown(context: Context, session: AsyncSession, rows: list[Backup]) -> list[BackupShown]:
    of = sorted({row.system_id for row in rows})
    systems = {
        row.id: row
        for row in (await session.execute(select(System).where(among(System.id, of)))).scalars()
    }
    all_routines = list((await session.execute(select(Routine))).scalars())
    names = {routine.id: routine.name for routine in all_routines}
    copies = await _copies(session, [row.id for row in rows])
    kept = await _kept_by(session, systems, rows, all_routines, context.now())
    return [
        _shown(
            row,
            systems[row.system_id].name,
            copies[row.id],
            names,
            kept.get(row.id, []),
            context.kinds.installed(row.kind),
            context.now(),
        )
        for row in rows
    ]


async def one(context: Context, session: AsyncSession, backup: str) -> BackupShown:
    """By its id, a prefix of it, or its name."""
    return (await shown(context, session, [await find_backup(session, backup)]))[0]


async def page(
    context: Context,
    session: AsyncSession,
    *,
    system: str | None,
    expired: bool,
    limit: int,
    after: str | None,
) -> Page[BackupShown]:
    """Newest first; of one system if given; ``expired``: including expired ones."""
    query = select(Backup)
    if system is not None:
        query = query.where(Backup.system_id == (await named(session, System, system)).id)
    if not expired:
        query = query.where(Backup.expired.is_(False))
    rows, cursor = await newest_first(
        session, query, [Backup.time, Backup.sequence, Backup.id], limit, after
    )
    return Page(items=await shown(context, session, rows), after=cursor)


async def _copies(session: AsyncSession, backups: list[str]) -> dict[str, list[CopyShown]]:
    """By backup, ordered by store name."""
    stores = {row.id: row for row in (await session.execute(select(StoreRow))).scalars()}
    custody = {keys.id: keys for keys in (await session.execute(select(KeySet))).scalars()}
    untold: dict[tuple[str, str], list[str]] = defaultdict(list)
    pending_notes = select(PendingNote).where(among(PendingNote.backup_id, backups))
    for pending in (await session.execute(pending_notes.order_by(PendingNote.id))).scalars():
        untold[pending.backup_id, pending.store_id].append(pending.note.fact)
    copies: dict[str, list[CopyShown]] = defaultdict(list)
    held = select(Copy).where(among(Copy.backup_id, backups))
    for copy in (await session.execute(held)).scalars():
        store = stores[copy.store_id]
        keys = custody[store.key_set]
        by_service = keys.custody == "kept"
        copies[copy.backup_id].append(
            CopyShown(
                store=store.name,
                since=copy.since,
                verified=copy.verified,
                damaged=copy.damaged,
                untold=untold[copy.backup_id, copy.store_id],
                key_set=keys.name,
                opened_by=(
                    "the service or the passphrase" if by_service else "the passphrase alone"
                ),
            )
        )
    for places in copies.values():
        places.sort(key=lambda place: place.store)
    return copies


async def _kept_by(
    session: AsyncSession,
    systems: dict[str, System],
    rows: list[Backup],
    all_routines: list[Routine],
    now: datetime,
) -> dict[str, list[Reason]]:
    # older ones do not affect these, unless dates and order contradict each other
    disordered = any(system.disordered for system in systems.values())
    since = None if disordered else min((row.time for row in rows), default=None)
    kept: dict[str, list[Reason]] = {}
    standing = await routines.backups_of(session, list(systems), expired=False, since=since)
    for system_id, its in standing.items():
        system = systems[system_id]
        mine = [row for row in all_routines if selectors.takes(row.systems, system)]
        kept |= routines.what_keeps(system, its, mine, now)
    return kept


async def documents(reader: BackupReader, part: str | None) -> list[DocumentShown]:
    return [
        DocumentShown(
            part=held.name,
            path=document.path,
            type=document.type,
            size=document.size,
            mode=document.mode,
            owner=document.owner,
            modified=document.modified,
            secret=document.secret,
        )
        for held in (await reader.head()).parts
        if part is None or held.name == part
        async for document in reader.documents(held)
    ]


async def removals(
    session: AsyncSession, *, system: str | None, store: str | None, limit: int, after: str | None
) -> Page[RemovalShown]:
    """Backups that sweeps removed, newest first."""
    query = select(Removal)
    if system is not None:
        query = query.where(or_(Removal.system == system, Removal.system_id == system))
    if store is not None:
        query = query.where(Removal.store_id == (await named(session, StoreRow, store)).id)
    rows, cursor = await newest_first(session, query, [Removal.at, Removal.id], limit, after)
    if system is not None and not rows and after is None:
        await named(session, System, system)  # an unknown name is an error, not an empty list
    stores = {row.id: row.name for row in (await session.execute(select(StoreRow))).scalars()}
    items = [
        RemovalShown(
            backup=row.backup_id,
            system=row.system,
            store=stores[row.store_id],
            name=row.name,
            time=row.time,
            bytes=row.size,
            why=row.why,
            removed=row.at,
            run=row.run_id,
        )
        for row in rows
    ]
    return Page(items=items, after=cursor)


def _worth(kind: Kind | None, row: Backup) -> list[str]:
    if kind is None:
        return [
            f"Unknown: the kind {row.kind} is not installed here. Add it to see what this backup"
            " can restore."
        ]
    return worth(kind, [part.name for part in row.parts], row.findings, list(row.left_out))


def _uncounted(kind: Kind | None, row: Backup) -> set[str]:
    """Census lists that a backup of these parts cannot count."""
    if kind is None:
        return set()
    return set(proving.covered_lists(kind, [part.name for part in row.parts])[1])


def _shown(
    row: Backup,
    system: str,
    copies: list[CopyShown],
    routine_names: dict[str, str],
    kept_by: list[Reason],
    kind: Kind | None,
    now: datetime,
) -> BackupShown:
    uncounted = _uncounted(kind, row)
    return BackupShown(
        id=row.id,
        system=system,
        system_id=row.system_id,
        kind=row.kind,
        name=row.name,
        note=row.note,
        purpose=row.purpose,
        time=row.time,
        sequence=row.sequence,
        stores=[place.store for place in copies],
        copies=copies,
        damaged=bool(copies) and all(place.damaged for place in copies),
        routine=routine_names.get(row.routine_id or ""),
        run=row.run_id,
        documents=row.documents,
        bytes=row.size,
        new_bytes=row.new_bytes,
        unchanged=row.unchanged,
        partial=row.partial,
        parts=row.parts,
        machine=row.machine,
        census={name: len(values) for name, values in row.census.items() if name not in uncounted},
        not_counted=sorted(uncounted & row.census.keys()),
        findings=row.findings,
        left_out=row.left_out,
        worth=_worth(kind, row),
        held=row.held,
        held_because=row.held_because,
        doubtful=row.doubtful,
        doubtful_because=row.doubtful_because,
        expired=row.expired,
        expired_at=row.expired_at,
        misdated=row.misdated,
        future=moments.is_future(row.time, now),
        kept_by=[ladder.in_words(reason) for reason in kept_by],
    )
