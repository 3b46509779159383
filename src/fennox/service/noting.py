"""Facts about a backup, told to every store that holds it; a store that is away is told when it is back."""

from __future__ import annotations

from typing import Any

import structlog
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Backup, Copy, PendingNote, StoreRow, System
from fennox.core.errors import FennoxError
from fennox.core.format.notes import Note
from fennox.core.time import stamp
from fennox.service.context import Context

log: Any = structlog.get_logger()


async def tell(context: Context, session: AsyncSession, backup: Backup, note: Note) -> None:
    """Write a note into every store that can be reached, and keep it for the others."""
    places = select(StoreRow).join(Copy).where(Copy.backup_id == backup.id)
    for store in (await session.execute(places)).scalars().all():
        if not await _waiting(session, store, backup) and await _told(context, session, store, backup, note):
            continue
        session.add(
            PendingNote(store_id=store.id, backup_id=backup.id, note=note.model_dump(mode="json"), at=context.now())
        )
    await session.flush()


async def set_hold(context: Context, session: AsyncSession, backup: Backup, reason: str, by: str, *, on: bool) -> None:
    """Put a backup on hold, or release it, in the catalogue and in every store."""
    backup.held, backup.held_because = on, reason if on else ""
    backup.expired = backup.expired and not on
    said = Note(fact="hold" if on else "release", backup=backup.id, system=backup.system_id,
                time=stamp(context.now()), by=by, reason=reason)  # fmt: skip
    await tell(context, session, backup, said)


async def tell_pending(context: Context) -> None:
    """Tell stores what they have missed, in the order in which it was said."""
    async with context.session() as session:
        waiting = list((await session.execute(select(PendingNote).order_by(PendingNote.id))).scalars())
        away: set[str] = set()
        for pending in waiting:
            store, backup = await session.get(StoreRow, pending.store_id), await session.get(Backup, pending.backup_id)
            if (
                store is None
                or backup is None
                or await session.get(Copy, (pending.backup_id, pending.store_id)) is None
            ):
                await session.delete(pending)  # there is nothing left that it would be about
            elif store.id not in away and await _told(
                context, session, store, backup, Note.model_validate(pending.note)
            ):
                await session.delete(pending)
            else:
                away.add(pending.store_id)


async def _waiting(session: AsyncSession, store: StoreRow, backup: Backup) -> bool:
    """Whether the store has not even heard what was said of the backup before."""
    query = select(PendingNote.id).where(PendingNote.store_id == store.id, PendingNote.backup_id == backup.id)
    return (await session.execute(query.limit(1))).first() is not None


async def _told(context: Context, session: AsyncSession, store: StoreRow, backup: Backup, note: Note) -> bool:
    folder = (await session.get_one(System, backup.system_id)).folder
    try:
        vault = await context.vault(session, store)
        record = await vault.find_record(backup.id, folder)
        await vault.write_note(note, record.reference)
    except FennoxError as error:
        log.warning("a store is told later", store=store.name, fact=note.fact, reason=error.what)
        return False
    return True
