"""Systems as the API shows them, with their backups and runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

from sqlalchemy import (
    ARRAY,
    ColumnElement,
    Row,
    Select,
    String,
    any_,
    bindparam,
    cast,
    func,
    select,
    true,
)
from sqlalchemy.dialects.postgresql import aggregate_order_by
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import IS_ACTIVE, Routine, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import HandedIn, Login, System
from fennox.service.backups import catalogue_entry
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.queries.newest_good import ONLY_PARTIAL, newest_backup, newest_run
from fennox.service.queries.paging import in_order_of
from fennox.service.retention import routines
from fennox.service.systems.first_look import certificate_shown
from fennox.service.systems.relations import relations
from fennox.service.takes import awaited
from fennox.wire.backups import HandInShown
from fennox.wire.base import Page
from fennox.wire.machines.relations import Relation, Relations
from fennox.wire.machines.systems import RunBrief, SystemName, SystemShown

SystemOrder = Literal["name", "kind", "site", "newest_good"]
_NEVER = datetime(1970, 1, 1, tzinfo=UTC)

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
    """With a few queries, however many systems there are."""

    async def asked(question: Any, ids: Sequence[str]) -> Mapping[str, Row[Any]]:
        return {row[0]: row for row in await session.execute(question, {"systems": list(ids)})}

    ids = [row.id for row in rows]
    known, going_on = await asked(_KNOWN, ids), await asked(_GOING_ON, ids)
    needed = {one for row in rows for one in row.needs}
    names = await asked(_NAMES, [*needed]) if needed else {}
    due_to_come = await awaited.lacking(context, session, rows)
    all_routines = list((await session.execute(select(Routine).order_by(Routine.name))).scalars())
    now = context.now()
    items = []
    for row in rows:
        mine = [routine for routine in all_routines if selectors.takes(routine.systems, row)]
        needs = sorted(names[one].name for one in row.needs if one in names)
        item = _shown(row, known[row.id], going_on.get(row.id), mine, needs, now)
        item.missing += due_to_come.get(row.id, [])
        items.append(item)
    return items


def _shown(
    row: System,
    known: Row[Any],
    going_on: Row[Any] | None,
    mine: list[Routine],
    needs: list[str],
    now: datetime,
) -> SystemShown:
    """``known``: a row of ``_KNOWN``; ``going_on``: a row of ``_GOING_ON``; ``needs``: names."""
    due = [routines.next_run(routine, now, row.id) for routine in mine if row.retired is None]
    return SystemShown(
        id=row.id,
        name=row.name,
        kind=row.kind,
        address=row.address,
        login=known.login,
        key=row.key,
        site=row.site,
        labels=row.labels,
        settings=row.settings,
        spare=row.spare,
        machine=row.machine,
        created=row.created,
        newest_good=known.good,
        newest_backup=known.backup,
        backups=known.backups,
        stores=known.stores or [],
        routines=[routine.name for routine in mine],
        next_run=min((moment for moment in due if moment is not None), default=None),
        missing=list(known.findings or []),
        needs=needs,
        via=known.via,
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
        last_run=_brief(known),
        active_run=_brief(going_on),
    )


def _brief(run: Row[Any] | None) -> RunBrief | None:
    return (
        RunBrief(id=run.id, kind=run.kind, state=run.state, at=run.at) if run and run.id else None
    )


async def one(context: Context, session: AsyncSession, row: System) -> SystemShown:
    """As after this transaction's changes."""
    await session.flush()
    return (await shown(context, session, [row]))[0]


@dataclass(frozen=True)
class SystemFilter:
    """``words``: all must occur in name, kind, site, address or labels. ``retired`` and ``spare``:
    only those, or only the others.
    """

    kind: str | None
    site: str | None
    label: str | None
    words: str
    retired: bool | None
    spare: bool | None

    def __call__(self, query: Select[System]) -> Select[System]:
        if self.kind is not None:
            query = query.where(System.kind == self.kind)
        if self.site is not None:
            query = query.where(System.site == self.site)
        if self.label is not None:
            query = query.where(System.labels.contains([self.label]))
        if self.retired is not None:
            is_retired = System.retired.is_not(None)
            query = query.where(is_retired if self.retired else ~is_retired)
        if self.spare is not None:
            query = query.where(System.spare.is_(self.spare))
        text = func.concat_ws(
            " ", System.name, System.kind, System.site, System.address, cast(System.labels, String)
        )
        for word in self.words.split():
            query = query.where(func.strpos(func.lower(text), func.lower(word)) > 0)
        return query


async def page(
    context: Context,
    session: AsyncSession,
    chosen: SystemFilter,
    sort: SystemOrder,
    *,
    down: bool,
    limit: int,
    after: str | None,
) -> Page[SystemShown]:
    key: ColumnElement[Any] = System.__table__.c[sort]
    if sort == "newest_good":
        key = func.coalesce(key, _NEVER)
    rows, cursor = await in_order_of(
        session, chosen(select(System)), [key, System.name], limit, after, down=down
    )
    return Page(items=await shown(context, session, rows), after=cursor)


async def names(session: AsyncSession) -> Page[SystemName]:
    chosen = select(System.id, System.name, System.kind, System.site).order_by(System.name)
    return Page(items=[SystemName(**row) for row in (await session.execute(chosen)).mappings()])


async def relations_of(context: Context, session: AsyncSession, row: System) -> Relations:
    every = await relations(context, session)
    newest = await catalogue_entry.newest_of(session, row.id)
    own = every[row.name]
    replicas = context.kinds.kind(row.kind)[0].replicas if own.peers else None
    return Relations(
        needs=[Relation(name=other, because=why) for other, why in sorted(own.needs.items())],
        needed_by=[
            Relation(name=other, because=related.needs[row.name])
            for other, related in sorted(every.items())
            if row.name in related.needs
        ],
        strangers=[Relation(name=host, because=why) for host, why in sorted(own.strangers.items())],
        peers=own.peers,
        replicas=[replicas.means, replicas.to_win, replicas.to_yield] if replicas else [],
        certificates=[certificate_shown(item) for item in newest.certificates] if newest else [],
    )


async def hand_ins_of(context: Context, session: AsyncSession, system: System) -> Page[HandInShown]:
    rows = (
        await session.execute(select(HandedIn).where(HandedIn.system_id == system.id))
    ).scalars()
    known = {row.document: row for row in rows if row.backup_id is not None}
    kind, _ = context.kinds.kind(system.kind)
    items = []
    for part, source, hand in kind.hand_ins():
        row = known.get(str(source.document))
        items.append(
            HandInShown(
                document=str(source.document),
                part=part.name,
                title=part.title,
                how=hand.how,
                every=hand.every,
                handed_in=row.at if row else None,
                by=row.by if row else "",
                backup=row.backup_id if row else None,
                due=row.at + timedelta(days=hand.every) if row else None,
            )
        )
    return Page(items=items)
