"""Inputs of a take: the system, its newest backup, and earlier takes."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple

from sqlalchemy import Float, func, not_, select, true
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login, StateRow, System
from fennox.core.evidence.oddness import LOOKED_AT, DoneTake
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.format import records
from fennox.core.format.manifest import Reached
from fennox.engine.takes.take_order import Subject, TakeRequest
from fennox.service.machines.context import Context
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease


async def subject_of(context: Context, session: AsyncSession, system: System) -> Subject:
    login = await session.get_one(Login, system.login_id) if system.login_id else None
    kind, kind_file = context.kinds.kind(system.kind)
    machine = system.machine.id if system.machine else ""
    reached = Reached(
        address=system.address, account=login.account if login else "", key=system.key
    )
    return Subject(
        system.id,
        system.name,
        system.folder,
        kind,
        kind_file,
        dict(system.settings),
        machine,
        reached,
    )


class Last(NamedTuple):
    """A system's newest backup."""

    id: str
    digest: str
    sequence: int
    doubtful: bool
    time: datetime
    name: str


BEFORE = (
    select(Backup.id, Backup.digest, Backup.sequence, Backup.doubtful, Backup.time, Backup.name)
    .where(Backup.system_id == System.id)
    .order_by(Backup.sequence.desc())
    .limit(1)
    .lateral("before")
)


def next_order(run: Run, last: Last | None, *, backup: str, time: str, apart: bool) -> TakeRequest:
    """The order of a take: fixed when queued, plus its position after the system's
    newest backup.
    """
    # a restore's safety copy takes everything, under its own name
    wanted = run.order if isinstance(run.order, TakeOrder) else TakeOrder()
    return TakeRequest(
        backup=backup,
        run=run.id,
        attempt=run.attempt,
        time=time,
        sequence=last.sequence + 1 if last else 1,
        previous=records.Previous(backup=last.id, digest=last.digest) if last else None,
        name=wanted.name,
        note=wanted.note,
        parts=wanted.parts,
        apart=apart,
    )


_PAST = aliased(Run)


_SAME_PARTS = [
    func.coalesce(run.order["parts"], constant("null").cast(JSONB)) for run in (_PAST, Run)
]


_ALIKE = (
    select(
        func.extract("epoch", _PAST.ended - _PAST.started).cast(Float).label("seconds"), _PAST.size
    )
    .where(
        _PAST.system_id == Run.system_id,
        _PAST.kind == constant("take"),
        _PAST.state == constant("done"),
    )
    .where(
        _PAST.started.is_not(None),
        _SAME_PARTS[0] == _SAME_PARTS[1],
        not_(_PAST.order.has_key("handed_in")),
    )
    .order_by(_PAST.created.desc())
    .limit(LOOKED_AT)
    .correlate(Run)
    .subquery()
)


_TAKES_BEFORE = select(
    func.json_agg(func.json_build_array(_ALIKE.c.seconds, _ALIKE.c.size))
).scalar_subquery()


_TAKE = (
    select(
        Run,
        System,
        StoreRow,
        KeySet,
        Login,
        Routine,
        StateRow.backup_id,
        StateRow.likeness,
        _TAKES_BEFORE,
        Copy.damaged,
        *BEFORE.c,
    )
    .join(System, System.id == Run.system_id)
    .join(StoreRow, StoreRow.id == Run.store_id)
    .outerjoin(KeySet, KeySet.id == StoreRow.key_set)
    .outerjoin(Login, Login.id == System.login_id)
    .outerjoin(Routine, Routine.id == Run.routine_id)
    .outerjoin(StateRow, StateRow.system_id == System.id)
    .outerjoin(BEFORE, true())
    .outerjoin(Copy, (Copy.backup_id == BEFORE.c.id) & (Copy.store_id == StoreRow.id))
    .where(queue.OURS)
)


@dataclass(frozen=True)
class Begun:
    """A starting take with all its inputs."""

    run: Run
    system: System
    store: StoreRow
    keys: list[KeySet]
    login: Login | None
    routine: Routine | None
    last: Last | None
    likeness: str  # digest of the machine's answers at the last backup
    alike: list[DoneTake]  # earlier takes of the same parts, newest first


async def read_begun(session: AsyncSession, lease: Lease) -> Begun:
    """Loaded with one query, because a night has thousands of takes."""
    rows = (await session.execute(_TAKE, queue.of_lease(lease))).all()
    if not rows:
        raise queue.lost()
    run, system, store, _, login, routine, known, likeness, alike, damaged, *before = rows[0]
    last = Last(*before) if before[0] is not None else None
    # read in full after a doubtful backup, for the guard, or one this store holds incompletely
    sure = last is not None and last.id == known and not last.doubtful and damaged == ""
    keys = [row[3] for row in rows if row[3] is not None]
    takes = [DoneTake(*take) for take in alike or []]
    return Begun(run, system, store, keys, login, routine, last, likeness if sure else "", takes)
