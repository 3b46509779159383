"""Backups as the API shows them."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy, PendingNote
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.evidence.usefulness import worth
from fennox.core.kinds.model import Kind
from fennox.core.restoring import proving
from fennox.core.retention import ladder
from fennox.core.retention.ladder import Reason
from fennox.core.schedule import moments
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import among
from fennox.service.retention import routines
from fennox.wire.backups import (
    BackupShown,
    CopyShown,
)


async def shown(context: Context, session: AsyncSession, rows: list[Backup]) -> list[BackupShown]:
    of = sorted({row.system_id for row in rows})
    systems = {
        row.id: row
        for row in (await session.execute(select(System).where(among(System.id, of)))).scalars()
    }
    stores = {row.id: row for row in (await session.execute(select(StoreRow))).scalars()}
    all_routines = list((await session.execute(select(Routine))).scalars())
    names = {routine.id: routine.name for routine in all_routines}
    custody = {keys.id: keys for keys in (await session.execute(select(KeySet))).scalars()}
    untold: dict[tuple[str, str], list[str]] = defaultdict(list)
    pending_notes = select(PendingNote).where(
        among(PendingNote.backup_id, [row.id for row in rows])
    )
    for pending in (await session.execute(pending_notes.order_by(PendingNote.id))).scalars():
        untold[pending.backup_id, pending.store_id].append(pending.note.fact)
    copies: dict[str, list[CopyShown]] = defaultdict(list)
    for copy in (
        await session.execute(select(Copy).where(among(Copy.backup_id, [row.id for row in rows])))
    ).scalars():
        store = stores[copy.store_id]
        keys = custody[store.key_set]
        copies[copy.backup_id].append(
            CopyShown(
                store=store.name,
                since=copy.since,
                verified=copy.verified,
                damaged=copy.damaged,
                untold=untold[copy.backup_id, copy.store_id],
                key_set=keys.name,
                opened_by=(
                    "the service or the passphrase"
                    if keys.custody == "kept"
                    else "the passphrase alone"
                ),
            )
        )
    kept: dict[str, list[Reason]] = {}
    # older ones have no say in what keeps these, unless dates and order contradict each other
    disordered = any(system.disordered for system in systems.values())
    since = None if disordered else min((row.time for row in rows), default=None)
    standing = await routines.backups_of(session, of, expired=False, since=since)
    for system_id, its in standing.items():
        mine = [
            routine
            for routine in all_routines
            if selectors.selects(routine.systems, systems[system_id])
        ]
        kept |= routines.what_keeps(systems[system_id], its, mine, context.now())
    for places in copies.values():
        places.sort(key=lambda place: place.store)
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


def _worth(kind: Kind | None, row: Backup) -> list[str]:
    if kind is None:
        return [
            f"This service does not know the kind {row.kind}; add it to be told what the backup is"
            " good for."
        ]
    return worth(kind, [part.name for part in row.parts], row.findings, list(row.left_out))


def _shown(
    row: Backup,
    system: str,
    copies: list[CopyShown],
    routine_names: dict[str, str],
    kept_by: list[Reason],
    kind: Kind | None,
    now: datetime,
) -> BackupShown:
    parts = [part.name for part in row.parts]
    uncounted = set(proving.covered_lists(kind, parts)[1]) if kind is not None else set()
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
