"""The history of one document, value or list through all backups of a system."""

from __future__ import annotations

import secrets

from sqlalchemy import select

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.systems import System
from fennox.core.compare.value_search import Question
from fennox.core.errors import BadInput, FennoxError, NotFound, PassphraseNeeded
from fennox.core.kinds.filling import for_system
from fennox.engine.inspection.value_trace import Trace
from fennox.service.backups.open_backups import Shelf
from fennox.service.machines.context import Context
from fennox.wire.comparing import ComparedBackup, StandingShown, Traced, TraceWanted


async def history(context: Context, system: System, wanted: TraceWanted) -> Traced:
    """Raises BadInput, NotFound if no backup has it, and PassphraseNeeded."""
    question = question_of(wanted)
    async with context.session() as session:
        mine = Backup.system_id == system.id, Backup.purpose == constant("backup")
        query = select(Backup).where(*mine).order_by(Backup.sequence)
        rows = list((await session.execute(query)).scalars())
    if not rows:
        raise BadInput(f"{system.name} has no backups.", "Take one.")
    kind = for_system(context.kinds.kind(system.kind)[0], dict(system.settings))
    shelf = Shelf(context, wanted.passphrase.get_secret_value() if wanted.passphrase else None)
    trace = Trace(kind, question, secrets.token_bytes(16), context.evaluators)
    unread = []
    for row in rows:
        try:
            await trace.look(await shelf.reader(row))
        except PassphraseNeeded:
            raise
        except FennoxError as error:
            unread.append(f"{row.id[:12]}: {error.what}")
    standings = _standings(trace, system, rows)
    if not any(standing.there for standing in standings):
        raise NotFound(
            f"No backup of {system.name} holds {wanted.document or wanted.list}.",
            "`fennox backup show BACKUP --documents` lists what one holds.",
        )
    return Traced(system=system.name, looked_at=trace.looked_at, unread=unread, standings=standings)


def question_of(wanted: TraceWanted) -> Question:
    """Raises BadInput."""
    question = Question(wanted.document, wanted.jsonpath, wanted.line, wanted.list)
    question.check()
    return question


def _standings(trace: Trace, system: System, rows: list[Backup]) -> list[StandingShown]:
    backups = {
        row.id: ComparedBackup(id=row.id, system=system.name, name=row.name, time=row.time)
        for row in rows
    }
    return [
        StandingShown(
            first=backups[standing.first],
            last=backups[standing.last],
            there=standing.there,
            values=standing.values,
            said=standing.said,
            change=standing.change,
        )
        for standing in trace.standings
    ]
