"""Ending a take without changes, in one statement. Most takes of a night are like this, and
thousands of them end within minutes. The content columns are copied from the previous backup's row.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import (
    CTE,
    ColumnElement,
    DateTime,
    Select,
    String,
    bindparam,
    column,
    func,
    insert,
    literal,
    null,
    select,
    update,
)
from sqlalchemy.dialects.postgresql import JSONB

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Run, RunLog, RunStep
from fennox.catalogue.models.systems import StateRow, System
from fennox.core.facts.run_results import TakeResult
from fennox.core.time import parse_stamp
from fennox.engine.takes.take_order import Taken
from fennox.service.runs import progress_log, queue
from fennox.service.runs.queue import Database, Lease
from fennox.service.takes import last_seen


@dataclass(frozen=True)
class Ending:
    """A take about to end."""

    store: str
    taken: Taken
    skew: float | None
    odd: str
    result: TakeResult


async def enter(database: Database, lease: Lease, ending: Ending, now: datetime) -> bool:
    """Enter the backup and end the run. False, without effect: the run is not ours, or the previous
    backup is gone.
    """
    reference, head = ending.taken.reference, ending.taken.head
    assert reference.previous is not None
    with lease.book.taken_out(now) as told:
        values = {
            "run": lease.run,
            "fence": lease.fence,
            "attempt": lease.attempt,
            "now": now,
            "odd": ending.odd,
            "result": ending.result,
            "step": told.step,
            "closed": told.closed,
            "steps": told.steps,
            "lines": told.lines,
            "store": ending.store,
            "skew": ending.skew,
            "before": reference.previous.backup,
            "backup": reference.backup,
            "name": reference.name,
            "note": reference.note,
            "time": parse_stamp(reference.time),
            "sequence": reference.sequence,
            "digest": ending.taken.digest,
            "new_bytes": ending.taken.written.bytes,
            "account": head.reached.account,
            "likeness": ending.taken.likeness,
        }
        # parameter names must differ from columns
        of_it = {f"its_{name}": value for name, value in values.items()}
        done = (await database.execute(_statement(), of_it)).one_or_none() is not None
        told.kept = done
    return done


AS_BEFORE = (
    "system_id",
    "purpose",
    "kind",
    "parts",
    "documents",
    "size",
    "partial",
    "machine",
    "census",
    "findings",
    "left_out",
    "certificates",
)  # columns about content; all others are about the backup itself


@cache
def _statement() -> Select[Any]:
    before = select(Backup).where(Backup.id == bindparam("its_before")).cte("before")
    mine = (
        update(Run)
        .where(
            Run.id == bindparam("its_run"),
            Run.fence == bindparam("its_fence"),
            Run.state == "running",
            Run.system_id == before.c.system_id,
        )
        .values(
            **queue.ENDED,
            state="done",
            reason="",
            remedy="",
            problem=None,
            ended=bindparam("its_now"),
            odd=bindparam("its_odd"),
            result=bindparam("its_result"),
            step=bindparam("its_step"),
            documents=before.c.documents,
            size=before.c.size,
        )
        .returning(Run.id, Run.system_id, Run.routine_id)
        .cte("mine")
    )
    closed = (
        update(RunStep)
        .where(RunStep.run_id == mine.c.id, RunStep.ended.is_(None))
        .values(ended=bindparam("its_closed"))
        .cte("closed")
    )
    known = (
        update(StateRow)
        .where(StateRow.system_id == mine.c.system_id)
        .values(backup_id=bindparam("its_backup"), likeness=bindparam("its_likeness"))
        .cte("known")
    )
    seen = (
        update(System)
        .where(System.id == mine.c.system_id)
        .values(skew=bindparam("its_skew"), **last_seen.AS_ITS_BACKUP)
        .cte("seen")
    )
    parts = [_backup(before, mine), _copy(mine), closed, known, seen, _steps(mine), _lines(mine)]
    return select(func.pg_notify(progress_log.CHANNEL, mine.c.id)).add_cte(*parts)


def _backup(before: CTE, mine: CTE) -> CTE:
    own = {
        "id": bindparam("its_backup", type_=String),
        "run_id": mine.c.id,
        "routine_id": mine.c.routine_id,
        "name": bindparam("its_name", type_=String),
        "note": bindparam("its_note", type_=String),
        "time": bindparam("its_time", type_=DateTime(timezone=True)),
        "sequence": bindparam("its_sequence", type_=Backup.__table__.c.sequence.type),
        "digest": bindparam("its_digest", type_=String),
        "new_bytes": bindparam("its_new_bytes", type_=Backup.__table__.c.new_bytes.type),
        "unchanged": literal(True),
        "account": bindparam("its_account", type_=String),
        "held": literal(False),
        "held_because": literal(""),
        "doubtful": literal(False),
        "doubtful_because": literal(""),
        "expired": literal(False),
        "expired_at": null(),
        "expired_by": literal(""),
        "misdated": literal(False),
        "noted": null(),
    }
    names = [*own, *AS_BEFORE]
    row = select(*own.values(), *[before.c[name] for name in AS_BEFORE]).select_from(
        before.join(mine, mine.c.system_id == before.c.system_id)
    )
    return insert(Backup).from_select(names, row).cte("entered")


def _copy(mine: CTE) -> CTE:
    row: dict[str, ColumnElement[Any]] = {
        "backup_id": bindparam("its_backup", type_=String),
        "store_id": bindparam("its_store", type_=String),
        "since": bindparam("its_time", type_=DateTime(timezone=True)),
        "digest": bindparam("its_digest", type_=String),
        "damaged": literal(""),
        "let_go": literal(False),
    }
    return (
        insert(Copy).from_select(list(row), select(*row.values()).select_from(mine)).cte("copied")
    )


def _steps(mine: CTE) -> CTE:
    moment = DateTime(timezone=True)
    each = (
        func.jsonb_to_recordset(bindparam("its_steps", type_=JSONB))
        .table_valued(
            column("title", String), column("started", moment), column("ended", moment), name="step"
        )
        .render_derived(with_types=True)
    )
    rows = select(
        mine.c.id, bindparam("its_attempt", type_=RunStep.__table__.c.attempt.type), *each.c
    )
    names = ["run_id", "attempt", "title", "started", "ended"]
    return (
        insert(RunStep)
        .from_select(names, rows.select_from(mine.join(each, literal(True))))
        .cte("steps")
    )


def _lines(mine: CTE) -> CTE:
    each = (
        func.jsonb_to_recordset(bindparam("its_lines", type_=JSONB))
        .table_valued(
            column("at", DateTime(timezone=True)),
            column("level", String),
            column("text", String),
            name="line",
        )
        .render_derived(with_types=True)
    )
    rows = select(mine.c.id, *each.c).select_from(mine.join(each, literal(True)))
    return insert(RunLog).from_select(["run_id", "at", "level", "text"], rows).cte("lines")
