"""Applying the guard: a backup that lost too much is doubtful until a person has looked."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.core.errors import Conflict
from fennox.core.evidence import guard
from fennox.core.evidence.guard import SeenBackup
from fennox.core.format import notes
from fennox.core.format.manifest import PartHeld
from fennox.core.time import stamp
from fennox.engine.journal import Journal
from fennox.service.backups import note_delivery
from fennox.service.machines.context import Context
from fennox.service.queries.newest_good import among
from fennox.service.retention import expiry

_COMPARED = 3  # good backups of the same parts


async def look_at(
    context: Context, session: AsyncSession, backup: Backup, journal: Journal, *, in_clear: bool
) -> None:
    """Compare a new backup with the last good ones, and mark it doubtful if needed."""
    kind = context.kinds.kind(backup.kind)[0]
    why = guard.doubts(
        kind,
        _seen(backup, in_clear),
        [_seen(one, in_clear) for one in await _before(session, backup)],
    )
    if not why:
        return
    reason = "; ".join(why)
    await say(context, session, backup, "doubtful", reason, "guard")
    await journal.log(
        "warning", f"The guard doubts this backup: {reason}. Nothing goes because of it."
    )


async def say(
    context: Context, session: AsyncSession, backup: Backup, fact: notes.Fact, reason: str, by: str
) -> None:
    """Mark a backup doubtful, or clear it, in the catalogue and in every store."""
    backup.doubtful, backup.doubtful_because = (
        fact == "doubtful",
        reason if fact == "doubtful" else "",
    )
    note = notes.Note(
        fact=fact,
        backup=backup.id,
        system=backup.system_id,
        time=stamp(context.now()),
        by=by,
        reason=reason[:500],
    )
    await note_delivery.tell(session, backup, note)


async def judge(
    context: Context, session: AsyncSession, backup: Backup, reason: str, by: str, *, good: bool
) -> None:
    """A person's verdict on a doubtful or misdated backup: it counts again, or may be removed."""
    if not backup.doubtful and not backup.misdated:
        raise Conflict("This backup is not in doubt.", "There is nothing to clear.")
    if good:
        backup.misdated = False
        await say(context, session, backup, "cleared", reason, by)
    else:
        await expiry.mark(session, backup, context.now(), by, f"confirmed to be bad: {reason}")


async def _before(session: AsyncSession, backup: Backup) -> list[Backup]:
    earlier = (
        select(Backup.id, Backup.parts)
        .where(
            Backup.system_id == backup.system_id,
            Backup.id != backup.id,
            Backup.sequence < backup.sequence,
            Backup.purpose == constant("backup"),
            Backup.doubtful.is_(False),
            Backup.kind == backup.kind,
        )
        .order_by(Backup.sequence.desc())
        .limit(_COMPARED * 5)
    )
    mine = _names(backup.parts)
    alike = [row.id for row in await session.execute(earlier) if _names(row.parts) == mine][
        :_COMPARED
    ]
    found = select(Backup).where(among(Backup.id, alike)).order_by(Backup.sequence.desc())
    return list((await session.execute(found)).scalars())


def _names(parts: list[PartHeld]) -> set[str]:
    return {part.name for part in parts}


def _seen(backup: Backup, in_clear: bool) -> SeenBackup:
    return SeenBackup(backup.machine.product, backup.census, backup.size, in_clear)
