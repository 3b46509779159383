"""Looks between takes: check whether a system still equals its last backup, and take it if not. A
difference is taken once it has been stable for the routine's settle time, so that no take happens
in the middle of a change, and only a limited number of times a day. A deliberately manual system is
only checked and reported.
"""

from __future__ import annotations

import json
import secrets
from datetime import datetime, timedelta

from sqlalchemy import delete, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, StateRow, System
from fennox.core.errors import Conflict, FennoxError
from fennox.core.facts.run_orders import LookOrder, TakeOrder
from fennox.core.facts.run_results import LookResult
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.schedule import moments
from fennox.engine.journal import Journal
from fennox.engine.reading.capture import Capture, identify
from fennox.engine.takes.look import blinded, difference, look
from fennox.engine.takes.take_order import check_same_machine
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.retention import routines
from fennox.service.runs import new_runs, queue
from fennox.service.runs.queue import Lease
from fennox.service.takes import last_seen
from fennox.service.takes.take_begun import subject_of

_DAY = timedelta(days=1)


async def decide(context: Context) -> None:
    """Queue the looks that are due. A system with an active run has its look afterwards."""
    now = context.now()
    async with context.session() as session:
        chosen = select(Routine).where(Routine.look_every > 0, Routine.mode != "off")
        for routine in (await session.execute(chosen)).scalars().all():
            if routines.begins(routine, now) > now:
                continue
            for system in await routines.members(session, routine):
                if system.login_id is None or system.suspended_because or system.retired:
                    continue
                if not _due(routine, system, now) or await session.get(StateRow, system.id) is None:
                    continue
                try:
                    await new_runs.enqueue(
                        session,
                        LookOrder(),
                        new_runs.About(
                            system_id=system.id, store_id=routine.store_id, routine_id=routine.id
                        ),
                        by=f"routine {routine.name}",
                        now=now,
                    )
                except Conflict:
                    continue
                system.looked = now  # also if it fails: retried at the next time, not immediately


def _due(routine: Routine, system: System, now: datetime) -> bool:
    """Its regular times, and once more when a difference should have settled."""
    looked = moments.past(system.looked, now)
    if looked is None:
        return True
    pause = timedelta(minutes=routine.look_every)
    if routine.mode == "on" and system.differs_still is not None:
        pause = min(pause, max(timedelta(minutes=routine.settle), timedelta(minutes=1)))
    return now - looked >= pause


async def run_look(context: Context, lease: Lease, journal: Journal) -> None:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        system = await session.get_one(System, run.system_id)
        store = await session.get_one(StoreRow, run.store_id)
        login = await session.get_one(Login, system.login_id) if system.login_id else None
        held = await session.get_one(StateRow, system.id)
        subject = await subject_of(context, session, system)
        door = await context.stores.door(session, store)
    vault = await context.stores.vault(door)
    if (held.key_set, held.generation) != (vault.header.key_set, vault.header.generation):
        raise FennoxError(
            f"{system.name} has no backup since the keys were changed, so there is nothing to"
            " compare it with.",
            f"Run: fennox backup take {system.name}",
        )
    await journal.step(f"Reach {system.address}")
    use = login_uses.of_system(subject.kind, system, login)
    link = await context.machines.connect(subject.kind, use, way_to(system), kept=True)
    try:
        machine = await identify(subject.kind, link, subject.settings)
        check_same_machine(subject, machine)
        await journal.step("Read the documents; nothing is stored")
        capture = Capture(subject.kind, subject.settings, machine)
        parts = [
            part.name
            for part in subject.kind.part
            if part.name in held.parts and not part.comes_by_itself and not part.asks_for_push
        ]
        now = await look(
            link, capture, parts, journal, context.readings, with_secrets=not vault.locked
        )
    finally:
        await link.close()
    found = difference(held.parts, now, vault.secret)
    told = {"new": found.new, "changed": found.changed, "gone": found.gone}
    state = blake2b_256(json.dumps([told, blinded(now, vault.secret)], sort_keys=True).encode())
    async with context.session() as session:
        await conclude(context, session, await queue.owned(session, lease), str(found), state)


async def conclude(
    context: Context, session: AsyncSession, run: Run, differs: str, state: str
) -> None:
    """End a look. ``differs``: the difference as text; ``state``: a digest of it, to detect
    stability.
    """
    system = await session.get_one(System, run.system_id, with_for_update=True)
    _note(system, differs, state, context.now())
    run.result = LookResult(differs=differs)
    if not differs:
        await _forget_uneventful(session, run)
    await queue.end(session, run, "done", context.now())
    routine = await session.get(Routine, run.routine_id) if run.routine_id else None
    if differs and routine is not None and routine.mode == "on":
        await _take_if_it_stands(context, session, routine, system)


async def _forget_uneventful(session: AsyncSession, run: Run) -> None:
    """Keep only the newest look without findings, so that they do not fill the list of runs."""
    earlier = delete(Run).where(
        Run.system_id == run.system_id,
        Run.kind == "look",
        Run.state == constant("done"),
        Run.id != run.id,
        Run.result["differs"].astext == "",
    )
    await session.execute(earlier.execution_options(synchronize_session=False))


def _note(system: System, differs: str, state: str, now: datetime) -> None:
    system.looked = now
    if not differs:
        last_seen.same(system)
        return
    if system.differs_state != state:
        system.differs_state, system.differs_still = state, now
    system.differs, system.differs_since = differs, system.differs_since or now


async def _take_if_it_stands(
    context: Context, session: AsyncSession, routine: Routine, system: System
) -> None:
    now = context.now()
    if system.differs_still is None or now - system.differs_still < timedelta(
        minutes=routine.settle
    ):
        return
    lately = (
        select(func.count())
        .select_from(Run)
        .where(
            Run.system_id == system.id,
            Run.kind == "take",
            Run.created > now - _DAY,
            Run.order.has_key("differs"),
        )
    )
    if (await session.execute(lately)).scalar_one() >= routine.most_a_day:
        return  # reported as a concern; taken the next night
    await session.flush()
    await new_runs.enqueue(
        session,
        TakeOrder(note=f"It differed: {system.differs}"[:500], parts=routine.parts, differs=True),
        new_runs.About(
            system_id=system.id,
            store_id=routine.store_id,
            routine_id=routine.id,
            backup_id=secrets.token_hex(16),
        ),
        by=f"routine {routine.name}",
        now=now,
    )
