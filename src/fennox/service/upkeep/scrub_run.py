"""Reading every byte of a store, and healing what is damaged from other stores, as runs."""

from __future__ import annotations

import contextlib
from collections import defaultdict
from dataclasses import dataclass, replace

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy, Removal
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.stores import KeySet, StoreDamage, StoreRow
from fennox.core.errors import Conflict, FennoxError
from fennox.core.facts.run_orders import (
    AdoptOrder,
    RekeyOrder,
    ScrubOrder,
    of_kind,
)
from fennox.core.facts.run_results import ScrubResult
from fennox.core.format.anchors import Loss
from fennox.core.words import counted
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.faults import (
    Fault,
    Gap,
    Report,
)
from fennox.engine.stores.heal import Healed, heal
from fennox.engine.stores.scrub import Share, scrub
from fennox.service.keys.key_sets import earlier_of, renew_earlier
from fennox.service.machines.context import Context
from fennox.service.machines.doors import Door
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.upkeep import store_anchors
from fennox.service.upkeep.catalogue_sync import follow, measure, measured
from fennox.service.upkeep.copy_run import holding
from fennox.service.upkeep.store_damage import (
    MOST_NAMED,
    MOST_OPENED,
    keep_damage,
    name_documents,
    tell,
)
from fennox.service.upkeep.store_runs import enqueue_for_store


async def run_scrub(context: Context, lease: Lease, journal: Journal) -> None:
    before = await _before(context, lease)
    row, share = before.row, before.share
    # a separate index: its data must come from this reading alone
    here = Holding(await context.stores.vault(before.door), PackIndex())
    others = await _helpers(context, before.others, journal)
    told = await store_anchors.told(context, row, [other.vault for other in others.values()])
    report = await scrub(here, before.expected, journal, share=share, known=before.known, told=told)
    losses = await _not_told_yet(context, report)
    for loss in losses:
        text = f"{str(loss)[:1].upper()}{str(loss)[1:]}."
        report.faults.append(Fault(f"systems/{loss.folder}", text))
    healed = Healed()
    if not report.sound:
        await tell(report, journal)
        healed = await heal(here, report, others, before.copies, journal)
        await _renew_headers(context, row, here.vault, report, healed)
        await _log_healed(row, here, report, healed, journal)
    if losses:
        how = await store_anchors.tell_again(context, here, others, losses, report)
        for loss in losses:
            if not loss.numbers:
                healed.objects[f"systems/{loss.folder}"] = how
    gaps = await _unexplained(context, report)
    for gap in gaps:
        await journal.log("warning", str(gap))
    orphans = sorted(report.records.keys() - before.expected)
    brought_in = await _follow_up(context, row, here, report, orphans, journal)
    await follow(context, lease, here.vault, row)
    await store_anchors.renew(context, row, here.vault, journal)
    result = ScrubResult(
        objects=report.objects,
        bytes=report.size,
        damaged=len(report.faults),
        healed=sum(fault.object in healed.objects for fault in report.faults),
        damaged_backups=len(healed.left),
        unknown_backups=len(orphans),
        brought_in=brought_in,
        foreign=report.foreign,
        gaps=len(gaps),
        passed_over=report.passed_over,
    )
    await _end(context, lease, here, share, report, healed, result)


@dataclass(frozen=True)
class _BeforeScrub:
    """``expected``: backups there according to the catalogue; ``copies``: other stores per backup;
    ``known``: damage by object.
    """

    row: StoreRow
    door: Door
    expected: set[str]
    others: list[Door]
    copies: dict[str, list[str]]
    share: Share
    known: dict[str, str]


async def _before(context: Context, lease: Lease) -> _BeforeScrub:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(StoreRow, run.store_id)
        held = await session.execute(select(Copy.backup_id).where(Copy.store_id == row.id))
        others, copies = await _others(context, session, row)
        open_damage = select(StoreDamage).where(
            StoreDamage.store_id == row.id, StoreDamage.healed.is_(None)
        )
        damage = (await session.execute(open_damage)).scalars()
        return _BeforeScrub(
            row=row,
            door=await context.stores.door(session, row, removing=True),
            expected=set(held.scalars()),
            others=others,
            copies=copies,
            share=Share(*of_kind(run.order, ScrubOrder).share),
            known={item.object: item.what for item in damage},
        )


async def _helpers(context: Context, doors: list[Door], journal: Journal) -> dict[str, Holding]:
    """Reachable other stores, by name."""
    others: dict[str, Holding] = {}
    for door in doors:
        try:
            others[door.name] = await holding(context, door)
        except FennoxError as error:
            await journal.log("warning", f"{door.name} cannot help to heal: {error.what}")
    return others


async def _log_healed(
    row: StoreRow, here: Holding, report: Report, healed: Healed, journal: Journal
) -> None:
    for name, how in list(healed.objects.items())[:MOST_NAMED]:
        await journal.log("info", f"Healed {name}: {how}.")
    for backup, why in list(healed.left.items())[:MOST_OPENED]:
        await journal.log("error", f"Backup {backup[:12]} is damaged: {why}")
        await name_documents(here, report, backup, journal)
    if len(healed.left) > MOST_OPENED:
        more = counted(len(healed.left) - MOST_OPENED, "more backup")
        await journal.log("error", f"So are {more}: fennox store damage {row.name}")


async def _end(
    context: Context,
    lease: Lease,
    here: Holding,
    share: Share,
    report: Report,
    healed: Healed,
    result: ScrubResult,
) -> None:
    used = await measured(here.vault)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(StoreRow, run.store_id)
        row.scrubbed, row.scrub_share = context.now(), share.number + 1
        remembered = context.stores.index(row.id)
        unread = {name: what for name, what in remembered.damaged.items() if not share.reads(name)}
        remembered.damaged = unread | here.index.damaged
        await keep_damage(context, session, row, report, healed)
        row.went_back = ""
        await measure(session, row.id, used, context.now())
        run.documents, run.size, run.result = report.objects, report.size, result
        await queue.end(session, run, "done", context.now())


async def _not_told_yet(context: Context, report: Report) -> list[Loss]:
    """Losses of the store, without records of backups reported individually."""
    async with context.session() as session:
        query = select(Backup.system_id, Backup.sequence).where(Backup.id.in_(report.missing))
        named = {(system, sequence) for system, sequence in await session.execute(query)}
    left = [
        replace(
            loss, numbers=[number for number in loss.numbers if (loss.system, number) not in named]
        )
        for loss in report.losses
    ]
    return [loss for loss in left if loss.numbers or loss.notes or loss.exchanged]


async def _unexplained(context: Context, report: Report) -> list[Gap]:
    """Gaps the catalogue cannot explain either: not every backup is in every store."""
    found = []
    async with context.session() as session:
        for gap in report.gaps:
            held = select(Backup.sequence).where(
                Backup.system_id == gap.system, Backup.sequence.in_(gap.numbers)
            )
            gone = select(Removal.sequence).where(
                Removal.system_id == gap.system, Removal.sequence.in_(gap.numbers)
            )
            known = {
                *(await session.execute(held)).scalars(),
                *(await session.execute(gone)).scalars(),
            }
            if left := [number for number in gap.numbers if number not in known]:
                found.append(Gap(gap.system, gap.name, left))
    return found


async def _follow_up(
    context: Context,
    row: StoreRow,
    here: Holding,
    report: Report,
    orphans: list[str],
    journal: Journal,
) -> bool:
    """Queue work a scrub found undone: strays of dead runs, and backups under earlier keys. Returns
    whether unknown backups are being adopted.
    """
    newest = here.vault.header.generation
    older = [one for one in report.records.values() if one.reference.generation < newest]
    runs = [report.records[backup].reference.run for backup in orphans]
    async with context.session() as session:
        mine = select(func.count()).select_from(Run).where(Run.id.in_(runs))
        ours = bool(orphans) and (await session.execute(mine)).scalar_one() == len(orphans)
        left = select(KeySet.id).where(KeySet.id == row.key_set, KeySet.left_to_expire.is_(True))
        reseal = bool(older) and (await session.execute(left.limit(1))).first() is None
        with contextlib.suppress(Conflict):  # one is active
            if ours:
                await enqueue_for_store(context, session, AdoptOrder(), row, "scrub")
        with contextlib.suppress(Conflict):
            if reseal:
                await enqueue_for_store(context, session, RekeyOrder(), row, "scrub")
    if orphans:
        check = f"look at them, then: fennox store adopt {row.name}"
        await journal.log(
            "warning",
            f"The catalogue does not know {counted(len(orphans), 'backup')} in {row.name};"
            f" {'they are brought in' if ours else check}.",
        )
    if reseal:
        await journal.log(
            "warning",
            f"{counted(len(older), 'backup')} still sealed under earlier keys: sealed again now.",
        )
    return ours


async def _others(
    context: Context, session: AsyncSession, row: StoreRow
) -> tuple[list[Door], dict[str, list[str]]]:
    """Access to the key set's other stores, and the backups each holds."""
    rows = select(StoreRow).where(StoreRow.key_set == row.key_set, StoreRow.id != row.id)
    found = [
        await context.stores.door(session, other)
        for other in (await session.execute(rows)).scalars().all()
    ]
    copies: dict[str, list[str]] = defaultdict(list)
    held = (
        select(Copy.backup_id, StoreRow.name)
        .join(StoreRow)
        .where(StoreRow.id.in_([door.store for door in found]))
    )
    for backup, name in (await session.execute(held)).all():
        copies[backup].append(name)
    return found, copies


async def _renew_headers(
    context: Context, row: StoreRow, vault: Vault, report: Report, healed: Healed
) -> None:
    """Rewrite missing headers of earlier key generations, which needs the opening key."""
    gone = [
        fault.object
        for fault in report.faults
        if fault.object.startswith("header/") and fault.object.endswith(".")
    ]
    if not gone or vault.locked:
        return
    async with context.session() as session:
        earlier = await earlier_of(session, row)
    await renew_earlier(vault, earlier)
    healed.objects |= dict.fromkeys(gone, "written again, with today's passphrases")
