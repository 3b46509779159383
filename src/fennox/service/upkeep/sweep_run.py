"""A sweep as a run: removals are judged again, unusual ones wait for a person, and removed backups
are listed by name.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Row, or_, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import PersonNeeded
from fennox.core.facts.run_orders import SweepOrder, of_kind
from fennox.core.facts.run_results import PreviewResult, SweepResult
from fennox.core.retention import removal
from fennox.core.retention.removal import Wait
from fennox.engine.backups import opened_store
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.sweep import Swept, newest_dates, sweep
from fennox.engine.stores.sweep_plan import Locked, plan
from fennox.service.machines.context import Context
from fennox.service.queries.newest_good import among
from fennox.service.retention import expiry
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.upkeep import clock_evidence, store_anchors
from fennox.service.upkeep.catalogue_sync import follow, measure, measured
from fennox.service.upkeep.clock_evidence import Judged
from fennox.wire.backups import MarkedShown

_BY_LADDER, _BY_CEILING = "no rung of its ladders keeps it", "the store's ceiling of {ceiling}"


async def judge(context: Context, holding: Holding, name: str) -> Judged:
    """Judge this worker's clock, also by the store to be swept."""
    seen = [
        clock_evidence.SeenDate(what, name, at)
        for what, at in (await newest_dates(holding.vault)).items()
    ]
    async with context.session() as session:
        return await clock_evidence.judge(
            context, session, own="the clock of this worker", seen=seen
        )


async def run_sweep(context: Context, lease: Lease, journal: Journal) -> None:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(StoreRow, run.store_id)
        door = await context.stores.door(session, row, removing=True)
        order = of_kind(run.order, SweepOrder)
    here = Holding(await context.stores.vault(door), context.stores.index(row.id))
    judged = await judge(context, here, row.name)
    if order.preview:
        await _preview(context, lease, row, here, judged, journal)
        return
    await _must_agree(context, judged)
    now = judged.evidence.now
    waits = await _seen(context, lease, row, now, order.confirmed)
    going = [backup for backup, wait in waits.items() if wait is None]
    reasons = await _reasons(context, row, going)

    async def still(backups: Collection[str]) -> set[str]:
        """Those nobody has unmarked meanwhile."""
        async with context.session() as session:
            await queue.owned(session, lease)
            marked = _marked(row.id, Copy.backup_id).where(among(Backup.id, backups))
            return set((await session.execute(marked)).scalars())

    done = await sweep(here, reasons, context.service_id, now, journal, still)
    # for a store unreachable when a passphrase was withdrawn
    await opened_store.forget_old_headers(here.vault)
    gone = await follow(context, lease, here.vault, row)
    await store_anchors.renew(context, row, here.vault, journal)
    used = await measured(here.vault)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        swept = update(StoreRow).where(StoreRow.id == row.id).values(swept=context.now())
        await session.execute(swept)
        await measure(session, row.id, used, context.now())
        run.documents, run.size, run.result = len(gone), done.freed, _result(done, len(gone), waits)
        await queue.end(session, run, "done", context.now())


async def _must_agree(context: Context, judged: Judged) -> None:
    """Raises PersonNeeded while clocks disagree: this worker's, or that of the service that set the
    marks.
    """
    why = " ".join(judged.sentences)
    if not judged.doubts:
        async with context.session() as session:
            said = await clock_evidence.said_by_a_service(session)
        if said is None:
            return
        why = f"A service said: {said}"
    raise PersonNeeded(
        f"Nothing is swept while the clocks disagree. {why}",
        "See `fennox doctor clocks`; correct the clock, or confirm that it is right.",
    )


def _result(done: Swept, records: int, waits: dict[str, Wait | None]) -> SweepResult:
    marked, waiting = _waiting(waits)
    return SweepResult(
        records=records,
        condemned=done.condemned,
        deleted=done.deleted,
        freed=done.freed,
        later=done.later,
        repacked=done.repacked,
        superseded=done.superseded,
        unfinished=done.unfinished,
        locked=done.locked.objects,
        locked_until=_until(done.locked),
        marked=marked,
        waiting=waiting,
    )


def _until(locked: Locked) -> str | None:
    return f"{locked.until:%Y-%m-%d %H:%M} UTC" if locked.until else None


def _waiting(waits: dict[str, Wait | None]) -> tuple[int, int]:
    """Numbers of backups marked for later removal, and waiting for a person."""
    person = sum(wait in removal.BY_A_PERSON for wait in waits.values())
    return sum(wait is not None for wait in waits.values()) - person, person


async def _preview(
    context: Context, lease: Lease, row: StoreRow, here: Holding, judged: Judged, journal: Journal
) -> None:
    """What a sweep would do now; changes nothing, and no mark counts as seen."""
    async with context.session() as session:
        waits = removal.waits(await standing(session, row.id), judged.evidence.now)
    reasons = await _reasons(
        context, row, [backup for backup, wait in waits.items() if wait is None]
    )
    made = await plan(here, {} if judged.doubts else reasons, judged.evidence.now, journal)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        marked, waiting = _waiting(waits)
        run.result = PreviewResult(
            records=len(made.expired),
            condemned=len(made.dead) + len(made.repack),
            deleted=len(made.delete),
            freed=made.freed,
            later=made.later,
            repacked=len(made.repack),
            locked=made.locked.objects,
            locked_until=_until(made.locked),
            doubts=" ".join(judged.sentences),
            marked=marked,
            waiting=waiting,
        )
        await queue.end(session, run, "done", context.now())


def _marked(store: str, *columns: Any) -> Any:
    return (
        select(*columns)
        .select_from(Copy)
        .join(Backup)
        .where(Copy.store_id == store, or_(Backup.expired, Copy.let_go), Backup.held.is_(False))
    )


async def standing(session: AsyncSession, store: str) -> list[removal.MarkedBackup]:
    """All backups of systems with marked backups in this store, as a sweep needs them."""
    concerned = _marked(store, Backup.system_id)
    rows = (
        select(*_OF_A_MARK, System.retired, System.let_go.label("system_let_go"), System.created)
        .select_from(Copy)
        .join(Backup)
        .join(System)
        .where(Copy.store_id == store, Backup.system_id.in_(concerned))
    )
    return [_standing(row) for row in await session.execute(rows)]


_OF_A_MARK = (
    Backup.id,
    Backup.system_id,
    Backup.sequence,
    Backup.time,
    Backup.purpose,
    Backup.doubtful,
    Backup.partial,
    Backup.held,
    Backup.parts,
    Backup.expired,
    Backup.expired_at,
    Backup.expired_by,
    Copy.let_go,
    Copy.let_go_at,
    Copy.removable_since,
)


def _standing(row: Row[*tuple[Any, ...]]) -> removal.MarkedBackup:
    marked = (row.expired or row.let_go) and not row.held
    at = row.expired_at if row.expired else row.let_go_at
    since = at or row.created  # marked before times were recorded
    by_person = row.expired and row.expired_by not in ("", expiry.LADDER)
    with_system = row.retired is not None and row.system_let_go
    return removal.MarkedBackup(
        id=row.id,
        system=row.system_id,
        sequence=row.sequence,
        taken=row.time,
        good=row.purpose == "backup" and not row.doubtful and not row.partial,
        parts=frozenset(part.name for part in row.parts) if row.partial else None,
        marked=since if marked else None,
        person=by_person or with_system or row.purpose == "safety",
        first_seen=row.removable_since,
    )


async def _seen(
    context: Context, lease: Lease, row: StoreRow, now: datetime, confirmed: Collection[str]
) -> dict[str, Wait | None]:
    async with context.session() as session:
        await queue.owned(session, lease)
        return await see_marks(session, row.id, now, confirmed)


async def see_marks(
    session: AsyncSession, store: str, now: datetime, confirmed: Collection[str] = ()
) -> dict[str, Wait | None]:
    """What each marked backup waits for; None: remove it. Records that a sweep has seen
    the marks.
    """
    marked = list((await session.execute(_marked(store, Copy.backup_id))).scalars())
    await expiry.unmark_what_is_kept_again(session, marked, now)
    await session.flush()
    waits = removal.waits(await standing(session, store), now, confirmed)
    here = update(Copy).where(Copy.store_id == store).execution_options(synchronize_session=False)
    new = here.where(among(Copy.backup_id, list(waits)), Copy.removable_since.is_(None))
    await session.execute(new.values(removable_since=now))
    over = here.where(Copy.removable_since.is_not(None), ~among(Copy.backup_id, list(waits)))
    await session.execute(over.values(removable_since=None))
    return waits


async def _reasons(context: Context, row: StoreRow, removable: Collection[str]) -> dict[str, str]:
    by_ceiling = _BY_CEILING.format(ceiling=row.ceiling)
    async with context.session() as session:
        rows = await session.execute(
            select(Backup.id, Backup.expired).where(among(Backup.id, removable))
        )
        return {backup: _BY_LADDER if expired else by_ceiling for backup, expired in rows}


async def marked(session: AsyncSession, row: StoreRow, now: datetime) -> list[MarkedShown]:
    """Backups marked for removal from a store, and what they wait for."""
    waits = removal.waits(await standing(session, row.id), now)
    known = (
        select(Backup, System.name, Copy)
        .join(System, System.id == Backup.system_id)
        .join(Copy, (Copy.backup_id == Backup.id) & (Copy.store_id == row.id))
        .where(among(Backup.id, list(waits)))
        .order_by(System.name, Backup.sequence)
    )
    by_ceiling = _BY_CEILING.format(ceiling=row.ceiling)
    return [
        MarkedShown(
            backup=backup.id,
            system=system,
            name=backup.name,
            time=backup.time,
            bytes=backup.size,
            why=_BY_LADDER if backup.expired else by_ceiling,
            by=backup.expired_by or "the ceiling",
            marked=backup.expired_at if backup.expired else copy.let_go_at,
            seen=copy.removable_since,
            waits=_WORDS[waits[backup.id]],
            person=waits[backup.id] in removal.BY_A_PERSON,
        )
        for backup, system, copy in await session.execute(known)
    ]


_WORDS: dict[Wait | None, str] = {
    None: "nothing: the next sweep removes it",
    Wait.FIRST_SWEEP: "two sweeps, 48 hours apart",
    Wait.GRACE: "a sweep, 48 hours after the first that saw the mark",
    Wait.NEWEST: "a person: it is the newest of its kind",
    Wait.SYSTEM_SHARE: (
        "a person: more than a fifth of its system's backups were marked at one time"
    ),
    Wait.STORE_SHARE: "a person: more than a fifth of the store's backups were marked at one time",
}


@dataclass(frozen=True)
class Waiting:
    """Marked backups of one system that wait for a person in a store."""

    store: str
    system: str
    backups: list[str]
    of: int  # backups of the system in the store
    newest: bool  # includes the newest of something


async def waiting(session: AsyncSession, now: datetime) -> list[Waiting]:
    """Removals waiting for a person, by store."""
    found = []
    for store in (await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars().all():
        every = await standing(session, store.id)
        waits = removal.waits(every, now)
        of_system: dict[str, list[removal.MarkedBackup]] = defaultdict(list)
        for backup in every:
            of_system[backup.system].append(backup)
        names = select(System.id, System.name).where(among(System.id, list(of_system)))
        for system, name in sorted((await session.execute(names)).all(), key=lambda row: row[1]):
            held = [
                backup.id
                for backup in of_system[system]
                if waits.get(backup.id) in removal.BY_A_PERSON
            ]
            if held:
                newest = any(waits[backup] is Wait.NEWEST for backup in held)
                found.append(Waiting(store.name, name, held, len(of_system[system]), newest))
    return found
