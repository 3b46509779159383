"""The audit chain: each entry's digest covers the previous one, so that no row can be changed
unnoticed. Entries are chained after their commit, in a separate transaction; otherwise audited
transactions would wait for each other's lock. Fennox's own backups contain the entries with their
digests and cannot be rewritten in a store. So a recomputed chain would not match the backed-up one.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.concerns import Alert, AlertRoute
from fennox.catalogue.models.people import Audit
from fennox.core.errors import FennoxError, NotFound
from fennox.core.facts.messages import AuditTold, MessageFacts
from fennox.engine.backups.backup_reader import BackupReader
from fennox.service.backups.open_backups import Shelf
from fennox.service.machines.context import Context
from fennox.service.own_state import own_backup, own_routine

_CHAINING = 7204  # advisory lock
_AT_ONCE = 500  # entries
_NAMED = 20  # faults
FIRST = "0" * 64  # start value of the chain


def digest_of(before: str, entry: Audit) -> str:
    """SHA-256 over the digest before and the entry, as canonical JSON; the moment in UTC to the
    microsecond.
    """
    at = entry.at.astimezone(UTC).isoformat(timespec="microseconds")
    what = [
        before,
        entry.place,
        entry.id,
        at,
        entry.by,
        entry.action,
        entry.noun,
        entry.name,
        entry.details,
        entry.address,
    ]
    return hashlib.sha256(
        json.dumps(what, sort_keys=True, separators=(",", ":")).encode()
    ).hexdigest()


async def chain(context: Context, session: AsyncSession) -> int:
    """Chain newly committed entries and queue them for routes that receive the audit. Returns their
    number.
    """
    await session.execute(select(func.pg_advisory_xact_lock(_CHAINING)))
    last = select(Audit).where(Audit.place.is_not(None)).order_by(Audit.place.desc()).limit(1)
    end = (await session.execute(last)).scalar_one_or_none()
    place, before = (end.place or 0, end.digest) if end is not None else (0, FIRST)
    fresh = select(Audit).where(Audit.place.is_(None)).order_by(Audit.id).limit(_AT_ONCE)
    rows = (await session.execute(fresh)).scalars().all()
    for row in rows:
        place += 1
        row.place = place
        before = row.digest = digest_of(before, row)
    await _tell(context, session, rows)
    return len(rows)


async def _tell(context: Context, session: AsyncSession, rows: Sequence[Audit]) -> None:
    routes = select(AlertRoute).where(AlertRoute.mode == "on", AlertRoute.audit.is_(True))
    for route in (await session.execute(routes)).scalars().all():
        for row in rows:
            session.add(
                Alert(
                    route_id=route.id,
                    at=context.now(),
                    event="audit",
                    not_before=context.now(),
                    body=_facts(row),
                )
            )


def _facts(row: Audit) -> MessageFacts:
    details = ", ".join(f"{name} {value}" for name, value in row.details.items() if value)
    text = f"{row.by} {row.action} {row.noun} {row.name}{f': {details}' if details else ''}"
    entry = AuditTold(
        place=row.place,
        at=row.at,
        by=row.by,
        action=row.action,
        noun=row.noun,
        name=row.name,
        details=row.details,
        address=row.address,
        digest=row.digest,
    )
    return MessageFacts(text=text, entry=entry)


@dataclass
class Checked:
    """Result of a check. ``held``: entries that are also in Fennox's own backup."""

    entries: int = 0
    faults: list[str] = field(default_factory=list)
    more: int = 0
    backup: str | None = None
    held: int = 0
    not_checked: str = ""

    def fault(self, text: str) -> None:
        if len(self.faults) < _NAMED:
            self.faults.append(text)
        else:
            self.more += 1


async def check(context: Context) -> Checked:
    """Recompute the whole chain, and compare it with the newest backup of Fennox itself."""
    found = Checked()
    digests: dict[int, tuple[int, str]] = {}
    async with context.session() as session:
        await chain(context, session)
    async with context.session() as session:
        before, expected = FIRST, 1
        async for row in _entries(session):
            found.entries += 1
            assert row.place is not None
            if row.place != expected:
                found.fault(_missing(expected, row.place - 1))
            elif row.digest != digest_of(before, row):
                found.fault(
                    f"Entry {row.place} of {row.at:%Y-%m-%d %H:%M} UTC was changed, or the one"
                    " before it."
                )
            before, expected = row.digest, row.place + 1
            digests[row.place] = (row.id, row.digest)
    try:
        await _against_backup(context, digests, found)
    except FennoxError as error:
        found.not_checked = f"{error.what} {error.remedy}"
    if found.more:
        found.faults.append(f"and {found.more} more")
    return found


def _missing(first: int, last: int) -> str:
    return (
        f"Entry {first} is missing." if first == last else f"Entries {first} to {last} are missing."
    )


async def _entries(session: AsyncSession) -> AsyncIterator[Audit]:
    behind = 0
    while True:
        query = select(Audit).where(Audit.place > behind).order_by(Audit.place).limit(_AT_ONCE)
        rows = (await session.execute(query)).scalars().all()
        for row in rows:
            yield row
        if len(rows) < _AT_ONCE:
            return
        behind = rows[-1].place or behind
        session.expunge_all()


async def _against_backup(
    context: Context, digests: dict[int, tuple[int, str]], found: Checked
) -> None:
    async with context.session() as session:
        own = await own_routine.own_system(session)
        newest = (
            select(Backup)
            .where(Backup.system_id == (own.id if own else ""))
            .order_by(Backup.sequence.desc())
        )
        backup = (await session.execute(newest.limit(1))).scalar_one_or_none()
    if backup is None:
        raise NotFound(
            "There is no backup of Fennox itself to hold the entries against.",
            "Run: fennox own-state keep",
        )
    reader, name = await Shelf(context).reader(backup), backup.id
    found.backup = name
    async for place, digest in _held(reader):
        found.held += 1
        if place not in digests:
            found.fault(
                f"Entry {place}, which Fennox's own backup {name[:12]} holds, is not there any"
                " more."
            )
        elif digests[place][1] != digest:
            found.fault(f"Entry {place} is not as Fennox's own backup {name[:12]} holds it.")


async def _held(reader: BackupReader) -> AsyncIterator[tuple[int, str]]:
    documents = await own_backup.documents_of(reader)
    async for line in own_backup.rows_of(reader, documents.get("audit")):
        row = json.loads(line)
        if row.get("place") is not None:
            yield int(row["place"]), str(row["digest"])
