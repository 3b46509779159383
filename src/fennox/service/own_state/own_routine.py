"""The routine that takes Fennox's own state twice a day, and the concern while there is none."""

from __future__ import annotations

import secrets
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict
from fennox.core.facts.concerns import ConcernFound, Severity
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.names import folder_name
from fennox.service.backups import catalogue_entry
from fennox.service.machines.context import Context, named
from fennox.service.machines.own_state_link import ADDRESS
from fennox.service.queries import selectors
from fennox.service.retention import routines
from fennox.service.runs import new_runs
from fennox.service.systems.dependence import is_on_this_machine
from fennox.wire.ownstate import OwnStateShown, OwnStateWanted

KIND = "fennox"
NAME = "own-state"
WHEN = "every day at 11:50 and 23:50"
LADDER = "everything for 7 days, daily for 60 days, monthly for 1 year, always 10"
_TOO_OLD = timedelta(days=2)


async def own_system(session: AsyncSession) -> System | None:
    return (await session.execute(select(System).where(System.kind == KIND))).scalar_one_or_none()


async def keep(context: Context, session: AsyncSession, wanted: OwnStateWanted, by: str) -> None:
    """Enrol Fennox as a system and take it twice a day, the first time at once."""
    stores = [await named(session, StoreRow, name) for name in (wanted.store, *wanted.copy_to)]
    if not wanted.on_this_machine and all(is_on_this_machine(store) for store in stores):
        raise Conflict(
            f"{' and '.join(store.name for store in stores)} would be lost together with this"
            " machine.",
            "Choose a store elsewhere, or say --on-this-machine and carry a copy away by hand.",
            field="store",
        )
    system = await own_system(session) or await _new_system(context, session)
    routine = await _routine(context, session, stores)
    await new_runs.enqueue(
        session,
        TakeOrder(),
        new_runs.About(
            system_id=system.id,
            store_id=routine.store_id,
            routine_id=routine.id,
            backup_id=secrets.token_hex(16),
        ),
        by=by,
        now=context.now(),
    )


async def _new_system(context: Context, session: AsyncSession) -> System:
    system_id = secrets.token_hex(16)
    system = System(
        id=system_id,
        name=await _free_name(session),
        folder=folder_name(KIND, system_id),
        kind=KIND,
        address=ADDRESS,
        login_id=None,
        key="",
        site="",
        labels=[],
        settings={},
        machine=None,
        created=context.now(),
    )
    session.add(system)
    await session.flush()
    return system


async def _routine(context: Context, session: AsyncSession, stores: list[StoreRow]) -> Routine:
    """Switch it on, with the first of ``stores`` as target and copies to the others; create it if
    missing.
    """
    named_so = select(Routine).where(Routine.name == NAME)
    routine = (await session.execute(named_so)).scalar_one_or_none()
    if routine is None:
        now = context.now()
        routine = Routine(
            id=secrets.token_hex(16),
            name=NAME,
            systems=f"kind={KIND}",
            when=WHEN,
            zone="UTC",
            ladder=LADDER,
            parts=None,
            created=now,
            decided_until=now,
            version=0,
        )
        session.add(routine)
    routine.store_id, routine.copy_to = stores[0].id, [store.id for store in stores[1:]]
    routine.mode = "on"
    routine.version += 1
    await session.flush()
    return routine


async def _free_name(session: AsyncSession) -> str:
    taken = set((await session.execute(select(System.name))).scalars())
    return next(
        name
        for name in (KIND, f"{KIND}-itself", f"{KIND}-{secrets.token_hex(3)}")
        if name not in taken
    )


async def shown(context: Context, session: AsyncSession) -> OwnStateShown:
    system = await own_system(session)
    mine = []
    if system is not None:
        every = (
            await session.execute(
                select(Routine).where(Routine.mode == "on").order_by(Routine.name)
            )
        ).scalars()
        mine = [routine for routine in every if selectors.takes(routine.systems, system)]
    ids = [store for routine in mine for store in (routine.store_id, *routine.copy_to)]
    stores = [await session.get_one(StoreRow, store) for store in dict.fromkeys(ids)]
    newest: Backup | None = (
        await catalogue_entry.newest_of(session, system.id) if system is not None else None
    )
    held: list[StoreRow] = []
    if newest is not None:
        places = select(StoreRow).join(Copy).where(Copy.backup_id == newest.id, Copy.damaged == "")
        held = list((await session.execute(places.order_by(StoreRow.name))).scalars())
    due = [
        moment
        for routine in mine
        if (moment := routines.next_run(routine, context.now())) is not None
    ]
    return OwnStateShown(
        kept=bool(mine),
        system=system.name if system else None,
        routine=mine[0].name if mine else None,
        when=f"{mine[0].when} ({mine[0].zone})" if mine else None,
        stores=[store.name for store in stores],
        newest=newest.time if newest else None,
        backup=newest.id if newest else None,
        held_in=[store.name for store in held],
        next_run=min(due) if due else None,
        warnings=_warnings(stores, mine),
        rebuild=[f"fennox rebuild {store.address}" for store in held],
    )


def _warnings(stores: list[StoreRow], mine: list[Routine]) -> list[str]:
    if not mine:
        return ["If this machine is lost, every login, routine and user is lost with it."]
    if all(is_on_this_machine(store) for store in stores):
        return ["It is kept only on the machine that runs Fennox, and is lost with it."]
    return []


async def concerns(context: Context, session: AsyncSession) -> list[ConcernFound]:
    """Raised once there is something to lose."""
    if (await session.execute(select(StoreRow.id).limit(1))).first() is None:
        return []
    state = await shown(context, session)
    found = []
    if not state.kept:
        text = f"Fennox's own state is not backed up. {state.warnings[0]}"
        found.append(_concern("own-state-not-kept", "high", text, "STORE"))
    elif state.warnings:
        found.append(_concern("own-state-here", "low", state.warnings[0], "ANOTHER-STORE"))
    if state.newest is not None and context.now() - state.newest > _TOO_OLD:
        days = (context.now() - state.newest).days
        found.append(
            ConcernFound(
                "own-state-old",
                "high",
                "service",
                "fennox",
                f"The newest backup of Fennox itself is {days} days old.",
                "Check its last run: fennox own-state show",
                since=state.newest,
            )
        )
    return found


def _concern(code: str, severity: Severity, text: str, store: str) -> ConcernFound:
    remedy = f"Run: fennox own-state keep {store}"
    return ConcernFound(code, severity, "service", "fennox", text, remedy)
