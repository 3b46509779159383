"""Safety copies: a target's state before a restore, as a backup on hold."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

from sqlalchemy import select, true

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.run_orders import RestoreOrder, of_kind
from fennox.core.format import notes
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.restoring.targets import save_target
from fennox.engine.takes.take_order import Subject, Taken, TakeRequest, TakeTools
from fennox.links.base import Link
from fennox.service.backups import note_delivery
from fennox.service.backups.catalogue_entry import keep_backup
from fennox.service.machines.context import Context
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.takes.take_begun import BEFORE, Last, next_order

_SAFETY = "what the target held before a restore"
KEPT_FOR = timedelta(days=7)
"""How long a safety copy is held once its restore is accepted, or proved where nothing is to be
accepted."""


async def take_safety_copy(
    context: Context,
    lease: Lease,
    link: Link,
    subject: Subject,
    store: StoreRow,
    vault: Vault,
    journal: Journal,
) -> Taken:
    """Take the target's state before it is overwritten, as an ordinary backup on hold."""
    order, system_id = await _order(context, lease)
    tools = TakeTools(
        vault, context.stores.index(store.id), journal, context.readings, context.carvers
    )
    taken = await save_target(tools, link, subject, order)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        if await session.get(Backup, order.backup) is None:
            row = keep_backup(session, run, system_id, store.id, taken, vault)
            row.held, row.held_because = True, _SAFETY
    note = notes.Note(
        fact="hold",
        backup=order.backup,
        system=subject.id,
        time=taken.reference.time,
        by="restore",
        reason=_SAFETY,
    )
    await vault.write_note(note, taken.reference)
    return taken


async def release_settled(context: Context) -> None:
    """Release safety copies whose restore has been settled for :data:`KEPT_FOR`. Afterwards their
    ladder decides; a person's hold stays.
    """
    now = context.now()
    async with context.session() as session:
        held = (
            select(Backup, SheetRow)
            .join(SheetRow, SheetRow.data["safety"].astext == Backup.id)
            .where(Backup.purpose == "safety", Backup.held, Backup.held_because == _SAFETY)
        )
        for backup, row in (await session.execute(held)).all():
            since = row.data.settled()
            if since is not None and since <= now - KEPT_FOR:
                reason = f"its restore was settled on {since:%Y-%m-%d}"
                by = f"restore {row.id[:12]}"
                await note_delivery.set_hold(context, session, backup, reason, by, on=False)


async def _order(context: Context, lease: Lease) -> tuple[TakeRequest, str]:
    """The safety copy to make, and the id of its system."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        system = await session.get_one(System, run.system_id)
        # one per run, so that a resumed run finds the copy it already made
        safety = of_kind(run.order, RestoreOrder)
        known = await session.get(Backup, safety.safety_backup)
        newest = select(*BEFORE.c).select_from(System).join(BEFORE, true())
        mine = await session.execute(newest.where(System.id == system.id))
        last = Last(*before) if (before := mine.one_or_none()) else None
    order = next_order(run, last, backup=safety.safety_backup, time=safety.safety_time, apart=False)
    return replace(
        order,
        sequence=known.sequence if known is not None else order.sequence,
        # one per sheet, so its name is unique
        name=f"before-restore-{str(run.sheet_id)[:8]}",
        note="What the target held before the restore.",
        purpose="safety",
        routine=None,
    ), system.id
