"""The state of the whole: status, audit, health."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Literal

from fastapi import APIRouter
from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import (
    ACTIVE,
    Audit,
    Backup,
    Copy,
    KeySet,
    Routine,
    Run,
    StoreDamage,
    StoreRow,
    System,
    Worker,
)
from fennox.core.errors import FennoxError
from fennox.service import keysets, ownroutine, upkeep
from fennox.service.context import Context
from fennox.service.paging import Limit
from fennox.service.routes.session import Here
from fennox.service.routes.systems import shown
from fennox.wire.access import AuditEntry
from fennox.wire.base import Page
from fennox.wire.runs import Concern, Status
from fennox.wire.systems import SystemShown

router = APIRouter(tags=["estate"])
health = APIRouter(tags=["health"])

_WORKER_GONE = "10 seconds"


async def _workers(session: AsyncSession) -> int:
    alive = (
        select(func.count()).select_from(Worker).where(Worker.seen > func.now() - text(f"interval '{_WORKER_GONE}'"))
    )
    return int((await session.execute(alive)).scalar_one())


def _protected(system: SystemShown) -> bool:
    """All its pieces are held: there is a good backup, and it lacks nothing."""
    return system.newest_good is not None and not any(finding.severity == "warning" for finding in system.missing)


async def _store_concerns(context: Context, session: AsyncSession, store: StoreRow) -> list[Concern]:
    """A folder is looked at now; a far side was looked at by the scheduler within the last minute or two."""
    found: list[Concern] = []

    def add(severity: Literal["high", "low"], text: str, remedy: str, since: datetime | None = None) -> None:
        found.append(Concern(severity=severity, about=store.name, text=text, remedy=remedy, since=since))

    if store.address.startswith("/"):
        try:
            await context.vault(session, store)
        except FennoxError as error:
            add("high", error.what, error.remedy)
    elif store.stopped_because:
        add("high", store.stopped_because, f"Run: fennox store test {store.name}")
    bad = select(func.count()).select_from(Copy).where(Copy.store_id == store.id, Copy.damaged != "")
    if count := (await session.execute(bad)).scalar_one():
        oldest = select(func.min(StoreDamage.found)).where(
            StoreDamage.store_id == store.id, StoreDamage.healed.is_(None)
        )
        since = (await session.execute(oldest)).scalar_one_or_none()
        many = "backup is" if count == 1 else "backups are"
        remedy = f"See `fennox store damage {store.name}`; take those systems again, and keep a second copy."
        add("high", f"{count} {many} damaged in {store.name} and could not be healed.", remedy, since)
    now = context.now()
    if now - (store.scrubbed or store.created) > 2 * upkeep.SCRUB_EVERY:
        add("low", f"{store.name} was not scrubbed for more than two weeks.", f"Run: fennox store scrub {store.name}",
            store.scrubbed)  # fmt: skip
    keys = await session.get(KeySet, (store.key_set, store.generation))
    if keys is not None and keys.custody == "apart":
        opened = select(func.max(Copy.verified)).where(Copy.store_id == store.id)
        last = (await session.execute(opened)).scalar_one_or_none()
        if now - (last or store.created) > upkeep.VERIFY_WITHIN:
            since_when = f"{last:%Y-%m-%d}" if last else f"it was made on {store.created:%Y-%m-%d}"
            add("low", f"No backup in {store.name} was opened since {since_when}.",
                "Verify one with its passphrase: fennox backup verify BACKUP", last)  # fmt: skip
    return found


async def _concerns(context: Context, session: AsyncSession, systems: list[SystemShown], workers: int) -> list[Concern]:
    """What is wrong or will be, worst first, each as a sentence with what to do."""
    found: list[Concern] = []
    now = context.now()
    if workers == 0:
        found.append(Concern(severity="high", about="workers", text="No worker is alive; nothing is taken or restored.",
                             remedy="Start one with `fennox worker run`.", since=None))  # fmt: skip
    for store in (await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars():
        found += await _store_concerns(context, session, store)
    found += await keysets.concerns(context, session)
    found += await ownroutine.concerns(context, session)
    for system in systems:
        if system.newest_good is None:
            found.append(Concern(severity="high", about=system.name, text=f"{system.name} has no backup.",
                                 remedy=f"Run: fennox backup take {system.name}", since=system.created))  # fmt: skip
        elif system.routines and now - system.newest_good > timedelta(days=8):
            found.append(Concern(severity="high", about=system.name,
                                 text=f"The newest good backup of {system.name} is "
                                      f"{(now - system.newest_good).days} days old.",
                                 remedy="Look at its last run.", since=system.newest_good))  # fmt: skip
    failed = {s.last_run.id: s for s in systems if s.last_run is not None and s.last_run.state == "failed"}
    for run in (await session.execute(select(Run).where(Run.id.in_(list(failed))))).scalars():
        name = failed[run.id].name
        found.append(Concern(severity="high", about=name, text=f"The last {run.kind} of {name} failed: {run.reason}",
                             remedy=run.remedy, since=run.ended))  # fmt: skip
    waiting = select(Run, System).join(System, System.id == Run.system_id).where(Run.state == "waiting")
    for run, row in await session.execute(waiting):
        found.append(Concern(severity="high", about=row.name, text=f"The {run.kind} of {row.name} waits: {run.reason}",
                             remedy=run.remedy, since=run.started))  # fmt: skip
    for system in systems:
        for finding in system.missing:
            if finding.severity == "warning":
                found.append(Concern(severity="low", about=system.name, text=f"{system.name}: {finding.text}",
                                     remedy=finding.remedy, since=None))  # fmt: skip
        if not system.routines:
            found.append(Concern(severity="low", about=system.name, text=f"{system.name} is in no routine.",
                                 remedy="Add one, or leave it by hand on purpose.", since=system.created))  # fmt: skip
    for routine in (await session.execute(select(Routine).where(Routine.mode == "off"))).scalars():
        found.append(Concern(severity="low", about=routine.name, text=f"The routine {routine.name} is off.",
                             remedy="Switch it on, or say that it is by hand on purpose.", since=None))  # fmt: skip
    return sorted(found, key=lambda concern: concern.severity != "high")


@router.get("/status")
async def status(context: Here) -> Status:
    """What is wrong, and how much is protected."""
    async with context.session() as session:
        workers = await _workers(session)
        rows = (await session.execute(select(System).order_by(System.name))).scalars()
        systems = await shown(context, session, list(rows))

        async def count(table: type[Backup] | type[StoreRow] | type[Routine]) -> int:
            return int((await session.execute(select(func.count()).select_from(table))).scalar_one())

        active = select(func.count()).select_from(Run).where(Run.state.in_(ACTIVE))
        return Status(
            at=context.now(),
            simulated_clock=context.simulated,
            concerns=await _concerns(context, session, systems, workers),
            systems=len(systems),
            protected=sum(_protected(system) for system in systems),
            backups=await count(Backup),
            stores=await count(StoreRow),
            routines=await count(Routine),
            workers=workers,
            active_runs=(await session.execute(active)).scalar_one(),
        )


@router.get("/audit")
async def audit(context: Here, limit: Limit = 100, before: int | None = None) -> Page[AuditEntry]:
    """Who did what, newest first."""
    async with context.session() as session:
        query = select(Audit).order_by(Audit.id.desc()).limit(limit + 1)
        if before is not None:
            query = query.where(Audit.id < before)
        rows = list((await session.execute(query)).scalars())
    items = [
        AuditEntry(id=row.id, at=row.at, by=row.by, action=row.action, noun=row.noun, name=row.name,
                   details={key: str(value) for key, value in row.details.items()})
        for row in rows[:limit]
    ]  # fmt: skip
    return Page(items=items, after=str(items[-1].id) if len(rows) > limit else None)


@health.get("/healthz")
async def healthz() -> dict[str, str]:
    """The process answers."""
    return {"state": "alive"}


@health.get("/readyz")
async def readyz(context: Here) -> dict[str, str]:
    """The database answers too."""
    async with context.session() as session:
        await session.execute(text("select 1"))
    return {"state": "ready"}
