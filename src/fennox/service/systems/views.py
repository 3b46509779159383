"""Systems as people see them: each with what is known of its backups and runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ARRAY, Row, String, any_, bindparam, func, select, true
from sqlalchemy.dialects.postgresql import aggregate_order_by
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import ONLY_PARTIAL, newest_backup, newest_run
from fennox.service.retention import routines
from fennox.service.takes import hand_ins
from fennox.wire.systems import RunBrief, SystemShown

_THESE = bindparam("systems", type_=ARRAY(String))
_BRIEF = (Run.id, Run.kind, Run.state, func.coalesce(Run.ended, Run.created).label("at"))
_GOOD = newest_backup(Backup.id, Backup.time, Backup.findings).lateral("good")
_LACKING = newest_backup(Backup.findings, fits=ONLY_PARTIAL).lateral("lacking")
_LAST = newest_run(*_BRIEF).lateral("last")
_COUNT = (
    select(func.count())
    .where(Backup.system_id == System.id, Backup.purpose == constant("backup"))
    .correlate(System)
    .scalar_subquery()
)
_STORES = (
    select(func.array_agg(aggregate_order_by(StoreRow.name, StoreRow.name)))
    .join(Copy, Copy.store_id == StoreRow.id)
    .where(Copy.backup_id == _GOOD.c.id)
    .correlate(_GOOD)
    .scalar_subquery()
)
_VIA = aliased(System)
_KNOWN = (
    select(
        System.id.label("system"),
        Login.name.label("login"),
        _VIA.name.label("via"),
        _GOOD.c.id.label("backup"),
        _GOOD.c.time.label("good"),
        func.coalesce(_GOOD.c.findings, _LACKING.c.findings).label("findings"),
        _COUNT.label("backups"),
        _STORES.label("stores"),
        *_LAST.c,
    )
    .outerjoin(Login, Login.id == System.login_id)
    .outerjoin(_VIA, _VIA.id == System.via_id)
    .outerjoin(_GOOD, true())
    .outerjoin(_LACKING, _GOOD.c.id.is_(None))
    .outerjoin(_LAST, true())
    .where(System.id == any_(_THESE))
)
_GOING_ON = select(Run.system_id.label("system"), *_BRIEF).where(
    IS_ACTIVE, Run.system_id == any_(_THESE)
)
_NAMES = select(System.id, System.name).where(System.id == any_(_THESE))


async def shown(context: Context, session: AsyncSession, rows: list[System]) -> list[SystemShown]:
    """In a few questions, however many there are."""

    async def asked(question: Any, ids: Sequence[str]) -> Mapping[str, Row[Any]]:
        return {row[0]: row for row in await session.execute(question, {"systems": list(ids)})}

    ids = [row.id for row in rows]
    known, going_on = await asked(_KNOWN, ids), await asked(_GOING_ON, ids)
    needed = {one for row in rows for one in row.needs}
    names = (
        {one: row.name for one, row in (await asked(_NAMES, [*needed])).items()} if needed else {}
    )
    due_by_hand = await hand_ins.lacking(context, session, rows)
    all_routines = list((await session.execute(select(Routine).order_by(Routine.name))).scalars())
    now = context.now()
    found = []
    for row in rows:
        its = known[row.id]
        mine = [routine for routine in all_routines if selectors.selects(routine.systems, row)]
        due = [
            moment
            for routine in mine
            if (moment := routines.next_run(routine, now, row.id)) is not None
        ]
        found.append(
            SystemShown(
                id=row.id,
                name=row.name,
                kind=row.kind,
                address=row.address,
                login=its.login,
                key=row.key,
                site=row.site,
                labels=row.labels,
                settings=row.settings,
                machine=row.machine,
                created=row.created,
                newest_good=its.good,
                newest_backup=its.backup,
                backups=its.backups,
                stores=its.stores or [],
                routines=[routine.name for routine in mine],
                next_run=min(due) if due and row.retired is None else None,
                missing=(its.findings or []) + due_by_hand.get(row.id, []),
                needs=sorted(names[one] for one in row.needs if one in names),
                via=its.via,
                patience=row.patience,
                key_until=row.key_until,
                suspended_because=row.suspended_because,
                left_open=row.left_open,
                looked=row.looked,
                differs=row.differs,
                differs_since=row.differs_since,
                retired=row.retired,
                retired_because=row.retired_because,
                let_go=row.let_go,
                last_run=_brief(its),
                active_run=_brief(going_on.get(row.id)),
            )
        )
    return found


def _brief(run: Row[Any] | None) -> RunBrief | None:
    return (
        RunBrief(id=run.id, kind=run.kind, state=run.state, at=run.at) if run and run.id else None
    )
