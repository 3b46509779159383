"""Looking up one thing by its id, a prefix of it, or its name."""

from __future__ import annotations

import re

from sqlalchemy import or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.people import User
from fennox.catalogue.models.runs import Run, SheetRow
from fennox.core.errors import BadInput, NotFound
from fennox.service.queries import ids
from fennox.service.queries.newest_good import begins

_ID = re.compile(r"[0-9a-f]{6,32}\Z")


async def find_backup(session: AsyncSession, text: str) -> Backup:
    """A backup by its id, a prefix of it (six digits or more), or its name."""
    fits = (
        or_(begins(Backup.id, text), Backup.name == text)
        if _ID.match(text)
        else Backup.name == text
    )
    rows = list(
        (
            await session.execute(select(Backup).where(fits).order_by(Backup.time.desc()).limit(5))
        ).scalars()
    )
    exact = [row for row in rows if row.id == text]
    if len(exact or rows) == 1:
        return (exact or rows)[0]
    if not rows:
        raise NotFound(
            f"There is no backup {text}.",
            "`fennox backup list` shows those there are.",
            field="backup",
        )
    found = ", ".join(row.id[:12] for row in rows)
    raise BadInput(f"{text} fits several backups: {found}.", "Give the id.", field="backup")


async def find_sheet(session: AsyncSession, text: str) -> SheetRow:
    rows = list(
        (
            await session.execute(
                select(SheetRow).where(SheetRow.id.startswith(text, autoescape=True)).limit(2)
            )
        ).scalars()
    )
    if len(rows) != 1 or len(text) < ids.LEAST:
        raise ids.not_one("run sheet", text, len(rows), "fennox restore list")
    return rows[0]


async def find_run(session: AsyncSession, text: str) -> Run:
    known = _ID.match(text) is not None
    rows = (
        list((await session.execute(select(Run).where(begins(Run.id, text)).limit(2))).scalars())
        if known
        else []
    )
    if len(rows) != 1:
        raise ids.not_one("run", text, len(rows), "fennox run list", "run")
    return rows[0]


async def find_concern(session: AsyncSession, key: str) -> ConcernRow:
    row = (
        await session.execute(select(ConcernRow).where(ConcernRow.key == key))
    ).scalar_one_or_none()
    if row is None:
        raise NotFound(
            f"There is no concern {key[:32]}.", "`fennox concern list` shows those there are."
        )
    return row


async def find_user(session: AsyncSession, name: str) -> User:
    row = (await session.execute(select(User).where(User.name == name))).scalar_one_or_none()
    if row is None:
        raise NotFound(
            f"There is no user {name}.", "`fennox user list` shows those there are.", field="name"
        )
    return row
