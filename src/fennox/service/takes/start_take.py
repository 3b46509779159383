"""Starting a take on request."""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import IS_ACTIVE, Run
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.names import noun
from fennox.service.backups import catalogue_entry
from fennox.service.machines.context import Context, named
from fennox.service.runs import new_runs
from fennox.wire.backups import NewTake


@dataclass(frozen=True)
class StartedTake:
    run: Run
    system: str
    store: str


async def start_take(
    context: Context,
    session: AsyncSession,
    wanted: NewTake,
    by: str,
    idempotency_key: str | None,
) -> StartedTake:
    """Raises NotFound, BadInput, and Conflict if the name is taken or a take is active."""
    if wanted.name:
        noun(wanted.name)
    system = await named(session, System, wanted.system)
    kind, _ = context.kinds.kind(system.kind)
    parts_to_take(kind, wanted.parts)
    key = f"{by}:{idempotency_key}" if idempotency_key else None
    if wanted.name:
        await _must_be_free(session, system, wanted.name, key)
    store = await catalogue_entry.store_for(session, wanted.store)
    run = await new_runs.enqueue(
        session,
        TakeOrder(name=wanted.name, note=wanted.note, parts=wanted.parts, hold=wanted.hold or None),
        new_runs.About(system_id=system.id, store_id=store.id, backup_id=secrets.token_hex(16)),
        by=by,
        now=context.now(),
        idempotency_key=key,
        wait=wanted.wait,
    )
    return StartedTake(run, system.name, store.name)


async def _must_be_free(
    session: AsyncSession, system: System, name: str, idempotency_key: str | None
) -> None:
    """Backup names are unique within a system, so that they can be used in commands. Repeating the
    same request is allowed.
    """
    if idempotency_key is not None:
        same = select(Run.id).where(Run.idempotency_key == idempotency_key)
        if (await session.execute(same)).first() is not None:
            return
    held = select(Backup.id).where(Backup.system_id == system.id, Backup.name == name)
    coming = select(Run.backup_id).where(
        IS_ACTIVE, Run.system_id == system.id, Run.order["name"].astext == name
    )
    for query in (held, coming):
        if (other := (await session.execute(query.limit(1))).scalar_one_or_none()) is not None:
            raise Conflict(
                f"{system.name} has a backup {name} already ({other[:12]}).",
                "Choose another name.",
                field="name",
            )
