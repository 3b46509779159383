"""Runs that look after stores: copies, scrub with healing, verify, sweep."""

from __future__ import annotations

import contextlib
from collections import defaultdict
from collections.abc import Collection, Mapping
from dataclasses import replace
from datetime import datetime

from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import (
    IS_ACTIVE,
    Backup,
    Copy,
    KeySet,
    Removal,
    Routine,
    Run,
    StoreDamage,
    StoreRow,
    System,
)
from fennox.core.errors import Conflict, FennoxError, NotFound
from fennox.core.facts.run_orders import (
    AdoptOrder,
    CopyOrder,
    RekeyOrder,
    ScrubOrder,
    StoreOrder,
    VerifyOrder,
    of_kind,
)
from fennox.core.facts.run_results import CopyResult, ScrubResult, VerifyResult
from fennox.core.format import packs
from fennox.core.format.anchors import Loss
from fennox.core.words import counted
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault, raise_unless_damage
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, copy, shares_keys
from fennox.engine.stores.faults import (
    GONE,
    Fault,
    Gap,
    Report,
    damaged_documents,
    found_damaged,
    in_place_of,
)
from fennox.engine.stores.heal import Healed, heal
from fennox.engine.stores.scrub import Share, scrub
from fennox.service.backups.copies import copies_of
from fennox.service.keys.key_sets import earlier_of, renew_earlier
from fennox.service.keys.passphrase_relay import wait_for_key
from fennox.service.machines.context import Context
from fennox.service.machines.doors import Door
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.upkeep import store_anchors
from fennox.service.upkeep.catalogue_sync import follow, measure, measured
from fennox.stores.whole import WholeObjects

_MOST_OPENED = 5  # damaged backups of which a scrub names the documents
_MOST_NAMED = 20  # objects or documents that a log names one by one


async def enqueue_for_store(
    context: Context, session: AsyncSession, order: StoreOrder, row: StoreRow, by: str
) -> Run:
    """Queue a run for a store; one of each kind at a time."""
    active = select(Run).where(Run.kind == order.kind, Run.store_id == row.id, IS_ACTIVE)
    other = (await session.execute(active)).scalars().first()
    if other is not None and order.kind != "copy":
        raise Conflict(
            f"A {order.kind} of {row.name} is {other.state} already ({other.id[:12]}).",
            "Wait for it, or stop it.",
        )
    backup = order.backup if isinstance(order, CopyOrder | VerifyOrder) else None
    about = queue.About(store_id=row.id, backup_id=backup)
    return await queue.enqueue(session, order, about, by=by, now=context.now())


async def enqueue_copies(
    context: Context, session: AsyncSession, run: Run, routine: Routine | None, backup: str
) -> None:
    """After a routine's take: one copy run for each further store."""
    for store_id in routine.copy_to if routine else []:
        row = await session.get(StoreRow, store_id)
        if row is not None and row.id != run.store_id:
            await enqueue_for_store(context, session, CopyOrder(backup=backup), row, run.by)


async def _holding(context: Context, door: Door) -> Holding:
    return Holding(await context.vault(door), context.index(door.store))


async def run_copy(context: Context, lease: Lease, journal: Journal) -> None:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        target_row = await session.get_one(StoreRow, run.store_id)
        backup = await session.get(Backup, run.backup_id or "")
        if backup is None:
            raise NotFound("The backup is no longer in the catalogue.", "Nothing is to be copied.")
        sources = [row for row in await copies_of(session, backup.id) if row.id != target_row.id]
        if not sources:
            raise NotFound(f"No other store holds {backup.id[:12]}.", "Nothing can be copied.")
        source_row = sources[0]
        doors = [await context.door(session, row) for row in (source_row, target_row)]
        folder = (await session.get_one(System, backup.system_id)).folder
    source, target = [await _holding(context, door) for door in doors]
    record = await source.vault.find_record(backup.id, folder)
    if (
        not shares_keys(source.vault, target.vault, record.reference.generation)
        and source.vault.locked
    ):
        source.vault.unlock(await wait_for_key(context, lease, source_row, journal))
    copied = await copy(source, target, record, journal)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        await session.merge(
            Copy(
                backup_id=backup.id,
                store_id=target_row.id,
                since=context.now(),
                digest=copied.digest,
                damaged="",
            )
        )
        run.size = copied.written.bytes
        run.result = CopyResult(
            backup=backup.id,
            source=source_row.name,
            target=target_row.name,
            objects=copied.written.objects,
            new_bytes=copied.written.bytes,
            sealed_anew=copied.anew,
        )
        await queue.end(session, run, "done", context.now())


async def run_scrub(context: Context, lease: Lease, journal: Journal) -> None:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(StoreRow, run.store_id)
        door = await context.door(session, row, removing=True)
        expected = set(
            (await session.execute(select(Copy.backup_id).where(Copy.store_id == row.id))).scalars()
        )
        doors, copies = await _others(context, session, row)
        share = Share(*of_kind(run.order, ScrubOrder).share)
        open_damage = select(StoreDamage).where(
            StoreDamage.store_id == row.id, StoreDamage.healed.is_(None)
        )
        known = {item.object: item.what for item in (await session.execute(open_damage)).scalars()}
    # an index of its own: what it remembers of packs must come from this look alone
    here = Holding(await context.vault(door), PackIndex())
    others: dict[str, Holding] = {}
    for other in doors:
        try:
            others[other.name] = await _holding(context, other)
        except FennoxError as error:
            await journal.log("warning", f"{other.name} cannot help to heal: {error.what}")
    told = await store_anchors.told(context, row, [other.vault for other in others.values()])
    report = await scrub(here, expected, journal, share=share, known=known, told=told)
    losses = await _not_told_yet(context, report)
    for loss in losses:
        report.faults.append(
            Fault(f"systems/{loss.folder}", f"{str(loss)[:1].upper()}{str(loss)[1:]}.")
        )
    healed = Healed()
    if not report.sound:
        await _tell(report, journal)
        healed = await heal(here, report, others, copies, journal)
        await _renew_headers(context, row, here.vault, report, healed)
        for name, how in list(healed.objects.items())[:_MOST_NAMED]:
            await journal.log("info", f"Healed {name}: {how}.")
        for backup, why in list(healed.left.items())[:_MOST_OPENED]:
            await journal.log("error", f"Backup {backup[:12]} is damaged: {why}")
            await _name_documents(here, report, backup, journal)
        if len(healed.left) > _MOST_OPENED:
            more = counted(len(healed.left) - _MOST_OPENED, "more backup")
            await journal.log("error", f"So are {more}: fennox store damage {row.name}")
    if losses:
        how = await store_anchors.tell_again(context, here, others, losses, report)
        for loss in losses:
            if not loss.numbers:
                healed.objects[f"systems/{loss.folder}"] = how
    gaps = await _unexplained(context, report)
    for gap in gaps:
        await journal.log("warning", str(gap))
    orphans = sorted(report.records.keys() - expected)
    brought_in = await _follow_up(context, row, here, report, orphans, journal)
    await follow(context, lease, here.vault, row)
    await store_anchors.renew(context, row, here.vault, journal)
    used = await measured(here.vault)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(StoreRow, run.store_id)
        row.scrubbed, row.scrub_share = context.now(), share.number + 1
        remembered = context.index(row.id)
        unread = {name: what for name, what in remembered.damaged.items() if not share.reads(name)}
        remembered.damaged = unread | here.index.damaged
        await _keep_damage(context, session, row, report, healed)
        row.went_back = ""
        await measure(session, row.id, used, context.now())
        run.documents, run.size = report.objects, report.size
        run.result = ScrubResult(
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
        await queue.end(session, run, "done", context.now())


async def _not_told_yet(context: Context, report: Report) -> list[Loss]:
    """What the store lost, without the records of backups that are named as missing one by one."""
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
    """Gaps of which the catalogue does not know either: not every backup lies in every store."""
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
    """Queue what a scrub shows to be left undone: strays of runs that died, and backups under
    earlier keys.

    Whether backups that the catalogue does not know are brought in.
    """
    older = [
        r for r in report.records.values() if r.reference.generation < here.vault.header.generation
    ]
    runs = [report.records[backup].reference.run for backup in orphans]
    async with context.session() as session:
        ours = (
            await session.execute(select(func.count()).select_from(Run).where(Run.id.in_(runs)))
        ).scalar_one()
        left = select(KeySet.id).where(KeySet.id == row.key_set, KeySet.left_to_expire.is_(True))
        reseal = bool(older) and (await session.execute(left.limit(1))).first() is None
        with contextlib.suppress(Conflict):  # one is going on
            if orphans and ours == len(orphans):
                await enqueue_for_store(context, session, AdoptOrder(), row, "scrub")
        with contextlib.suppress(Conflict):
            if reseal:
                await enqueue_for_store(context, session, RekeyOrder(), row, "scrub")
    if orphans:
        remedy = (
            "they are brought in"
            if ours == len(orphans)
            else f"look at them, then: fennox store adopt {row.name}"
        )
        text = (
            f"{len(orphans)} backups lie in {row.name} that the catalogue does not know; {remedy}."
        )
        await journal.log("warning", text)
    if reseal:
        await journal.log(
            "warning",
            f"{len(older)} backups are still sealed under earlier keys; they are sealed anew.",
        )
    return bool(orphans) and ours == len(orphans)


async def _others(
    context: Context, session: AsyncSession, row: StoreRow
) -> tuple[list[Door], dict[str, list[str]]]:
    """The ways into the other stores of the key set, and which of them hold which backup."""
    rows = select(StoreRow).where(StoreRow.key_set == row.key_set, StoreRow.id != row.id)
    found = [
        await context.door(session, other)
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
    """Write headers of earlier key generations anew that are gone; that takes the opening key."""
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
    healed.objects |= dict.fromkeys(gone, "written anew, with the passphrases there are now")


async def _tell(report: Report, journal: Journal) -> None:
    for fault in report.faults[:_MOST_NAMED]:
        await journal.log("error", f"{fault.object}: {fault.what}")
    if len(report.faults) > _MOST_NAMED:
        await journal.log("error", f"and {len(report.faults) - _MOST_NAMED} more objects")


async def _name_documents(here: Holding, report: Report, backup: str, journal: Journal) -> None:
    """Down to the documents, where the opening key is at hand."""
    record = report.records.get(backup)
    if record is None:
        return
    if here.vault.locked:
        await journal.log(
            "warning",
            "Which documents it costs is known only with the passphrase: verify the backup.",
        )
        return
    try:
        documents = await damaged_documents(BackupReader(here.vault, here.index, record))
    except FennoxError as error:
        await raise_unless_damage(here.vault, error)
        await journal.log("error", f"Its manifest cannot be read: {error.what}")
        return
    more = f" and {len(documents) - _MOST_NAMED} more" if len(documents) > _MOST_NAMED else ""
    lost = f"Documents of it that are lost: {', '.join(documents[:_MOST_NAMED])}{more}"
    await journal.log(
        "error",
        lost if documents else "Every document of it can be read; the list of its chunks is lost.",
    )


async def _keep_damage(
    context: Context, session: AsyncSession, row: StoreRow, report: Report, healed: Healed
) -> None:
    """Enter what was found, end what is over, and mark copies that cannot be read whole."""
    now = context.now()
    known = await _open_damage(session, row)
    for fault in report.faults:
        item = known.pop(fault.object, None) or _entered(session, row, fault, now)
        costs = report.costs.get(fault.object, set())
        item.backups = sorted(
            costs if fault.object in healed.objects else costs & healed.left.keys()
        )
        if fault.object in healed.objects:
            item.healed, item.how = now, healed.objects[fault.object]
    for item in known.values():
        gone = (
            item.object.startswith("systems/") and item.object.count("/") == 1
        )  # records that nobody has
        item.healed, item.how = (
            now,
            "they stay gone; the store goes on without them" if gone else "no longer found",
        )
    whole = update(Copy).where(
        Copy.store_id == row.id, Copy.damaged != "", Copy.backup_id.not_in(list(healed.left))
    )
    await session.execute(whole.values(damaged="").execution_options(synchronize_session=False))
    for backup, why in healed.left.items():
        one = update(Copy).where(Copy.store_id == row.id, Copy.backup_id == backup)
        await session.execute(one.values(damaged=why).execution_options(synchronize_session=False))


async def _open_damage(session: AsyncSession, row: StoreRow) -> dict[str, StoreDamage]:
    """By object, what was found and is not healed."""
    rows = select(StoreDamage).where(StoreDamage.store_id == row.id, StoreDamage.healed.is_(None))
    return {item.object: item for item in (await session.execute(rows)).scalars()}


def _entered(session: AsyncSession, row: StoreRow, fault: Fault, now: datetime) -> StoreDamage:
    item = StoreDamage(
        store_id=row.id, object=fault.object, what=fault.what, backups=[], found=now, how=""
    )
    session.add(item)
    return item


async def _keep_verified(
    session: AsyncSession,
    row: StoreRow,
    faults: Mapping[Fault, set[str]],
    whole: Collection[str],
    now: datetime,
) -> None:
    """Enter the damage found by reading backups, as a scrub would, so that the next scrub knows of
    it.

    A backup that was read ``whole`` needs none of it; that a damaged pack is sound again only a
    scrub can tell.
    """
    known = await _open_damage(session, row)
    for fault, needed_by in faults.items():
        item = known[fault.object] = known.get(fault.object) or _entered(session, row, fault, now)
        item.backups = sorted({*item.backups, *needed_by} - set(whole))
    for item in known.values():
        if not {*item.backups}.isdisjoint(whole):
            item.backups = [backup for backup in item.backups if backup not in whole]
            of_backups = item.object == GONE or item.object.startswith(in_place_of(""))
            if of_backups and not item.backups:
                item.healed, item.how = now, "it was read whole again"


async def run_verify(context: Context, lease: Lease, journal: Journal) -> None:
    """Open backups and hash every document: those that were opened longest ago first."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        order = of_kind(run.order, VerifyOrder)
        row = await session.get_one(StoreRow, run.store_id)
        door = await context.door(session, row)
        there = Copy.__table__.join(Backup).join(System)
        query = select(Backup.id, System.folder).select_from(there).where(Copy.store_id == row.id)
        if run.backup_id:
            query = query.where(Copy.backup_id == run.backup_id)
        else:
            query = query.where(Backup.expired.is_(False))
        longest_ago = query.order_by(func.coalesce(Copy.verified, Copy.since)).limit(order.most)
        wanted = [(backup, folder) for backup, folder in await session.execute(longest_ago)]
    vault = await context.vault(door)
    if vault.locked and order.by_hand:
        vault.unlock(await wait_for_key(context, lease, row, journal))
    index = context.index(row.id)
    await journal.step("Open backups and read every document")
    await index.refresh(vault)
    vault.store = WholeObjects(vault.store, after=0)
    condemned = await vault.condemned()
    bad: dict[str, str] = {}
    faults: dict[Fault, set[str]] = defaultdict(set)
    whole: set[str] = set()
    opened = 0
    for backup, folder in wanted:
        await journal.check()
        reader = None
        try:
            reader = BackupReader(vault, index, await vault.find_record(backup, folder))
            if vault.locked:
                lost = [c for c in await reader.needed() if index.sound_place(c) is None]
                documents = [f"{len(lost)} chunks"] if lost else []
            else:
                documents = await damaged_documents(reader)
                opened += 1
        except FennoxError as error:
            await raise_unless_damage(vault, error)
            documents = [error.what]
        if documents and not await context.still_held(backup, row.id):
            continue  # a sweep removed it meanwhile
        if documents:
            more = (
                f" and {len(documents) - _MOST_NAMED} more" if len(documents) > _MOST_NAMED else ""
            )
            bad[backup] = f"Cannot be read whole: {', '.join(documents[:_MOST_NAMED])}{more}"
            await journal.log("error", f"Backup {backup[:12]}: {bad[backup]}")
            await index.refresh(
                vault
            )  # a folder on which nothing is mounted any more holds no packs, and says so here
            unsaid = [Fault(in_place_of(backup), bad[backup])]
            for fault in await found_damaged(reader, bad[backup]) if reader else unsaid:
                faults[fault].add(backup)
        elif not vault.locked:
            whole.add(backup)
        await journal.progress(documents=opened)
    for pack, what in index.damaged.items():
        if packs.digest_in_name(pack) not in condemned:
            faults[Fault(pack, what)] |= set()
    if vault.locked:
        await journal.log(
            "warning",
            f"{row.name} is kept apart: its backups were held against the packs, not opened.",
        )
    async with context.session() as session:
        run = await queue.owned(session, lease)
        for backup, _ in wanted:
            current = await session.get(Copy, (backup, row.id))
            if current is not None:
                if backup in bad:
                    current.damaged = bad[backup]
                elif backup in whole:  # what was only held against the packs' tables clears nothing
                    current.damaged, current.verified = "", context.now()
        await _keep_verified(session, row, faults, whole, context.now())
        run.documents = opened
        run.result = VerifyResult(backups=len(wanted), opened=opened, damaged_backups=len(bad))
        if bad:
            text = f"{len(bad)} of {len(wanted)} backups in {row.name} cannot be read whole."
            run.reason, run.remedy, run.problem = (
                text,
                "Scrub the store: what another copy holds is healed.",
                "damaged",
            )
        await queue.end(session, run, "failed" if bad else "done", context.now())
