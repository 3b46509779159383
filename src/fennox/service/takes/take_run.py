"""A take as a run: what the engine needs, and what the catalogue keeps of the backup."""

from __future__ import annotations

from contextlib import AsyncExitStack
from dataclasses import replace

from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.evidence.oddness import DoneTake, oddness
from fennox.core.facts.run_orders import TakeOrder, of_kind
from fennox.core.facts.run_results import TakeResult
from fennox.core.schedule import moments
from fennox.core.schedule.moments import MOST_SKEW
from fennox.core.time import stamp
from fennox.engine.journal import Journal
from fennox.engine.takes.before_and_after import Surroundings
from fennox.engine.takes.look import Difference
from fennox.engine.takes.take import take
from fennox.engine.takes.take_order import Taken
from fennox.engine.takes.unchanged_machine import RecordPlace
from fennox.links.base import Link, Web
from fennox.service.backups import note_delivery
from fennox.service.backups.catalogue_entry import keep_backup
from fennox.service.machines import login_uses, own_secrets
from fennox.service.machines.context import Context
from fennox.service.machines.default_logins import look_again
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.takes import guard, hand_ins, last_seen
from fennox.service.takes.take_begun import Begun, next_order, read_begun, subject_of
from fennox.service.takes.unchanged_take import Ending, enter
from fennox.service.upkeep.store_runs import enqueue_copies


async def run_take(context: Context, lease: Lease, journal: Journal) -> None:
    async with context.session(single=True) as session:
        begun = await read_begun(session, lease)
        run, system, store, login = begun.run, begun.system, begun.store, begun.login
        subject = await subject_of(context, session, system)
        lately = run.routine_id is not None
        door = await context.stores.door(session, store, generations=begun.keys, lately=lately)
        wanted = of_kind(run.order, TakeOrder)
        document = wanted.handed_in
        given = await hand_ins.given(context, session, system, document) if document else None
    if subject.kind.reach == "service":
        async with context.session() as session:
            await own_secrets.seal_secrets(session, context.keyfile, context.now())
    vault = await context.stores.vault(door, lately=lately)
    assert run.backup_id is not None
    order = next_order(
        run, begun.last, backup=run.backup_id, time=stamp(run.created), apart=vault.locked
    )
    routine = begun.routine.name if begun.routine else None
    # what a person asks for is read whole; what comes every night trusts what has not moved
    trust = run.routine_id is not None and not vault.locked
    if trust and begun.last is not None:
        place = RecordPlace(system.folder, stamp(begun.last.time), begun.last.name)
        order = replace(order, likeness=begun.likeness, before=place)
    order = replace(order, routine=routine, trust=trust, measure=context.stores.measures(store))
    if given is None:
        await journal.step(f"Reach {system.address}")

    async def reach() -> Link:
        return await context.machines.connect(
            subject.kind, login_uses.of_system(system, login), way_to(system), kept=True
        )

    async def note(left: list[str]) -> None:
        async with context.session() as session:
            await queue.owned(session, lease)
            (await session.get_one(System, system.id)).left_open = list(left)

    async with AsyncExitStack() as stack:
        link = None
        if given is None:
            link = await reach()
            stack.push_async_callback(link.close)
            around = Surroundings(
                subject.kind, subject.settings, link, reach, note, journal, list(system.left_open)
            )
            await stack.enter_async_context(around.held(parts_to_take(subject.kind, order.parts)))
        taken = await take(
            vault,
            context.stores.index(store.id),
            link,
            subject,
            order,
            journal,
            context.readings,
            any_machine=False,
            handed_in=given,
            carvers=context.carvers,
        )
    await look_again(context, subject.kind, system, login, journal)
    if taken.store_ahead is not None:
        await _keep_skew(context, store.id, taken.store_ahead)
    skew = await _machine_ahead(context, taken.skew)
    short = taken.as_before and not wanted.hold
    copied = begun.routine is not None and begun.routine.copy_to != []
    odd = _oddness(context, begun, taken.reference.sizes.bytes) if given is None else ""
    ending = Ending(
        store.id, taken, skew, odd, _result(taken, Difference([], [], 0), unchanged=True)
    )
    if short and not copied:
        async with context.alone() as database:
            if await enter(database, lease, ending, context.now()):
                return
    elif short:
        async with context.session() as session:
            if await enter(session, lease, ending, context.now()):
                await enqueue_copies(context, session, run, begun.routine, taken.reference.backup)
                return
    async with context.session() as session:
        run = await queue.owned(session, lease, ending=True)
        backup = keep_backup(session, run, system.id, store.id, taken, vault)
        differs: Difference | None = None
        found: dict[str, object] = {"machine": taken.head.machine}
        if given is None:
            differs = await last_seen.remember(session, system.id, taken, vault)
            found |= last_seen.AS_ITS_BACKUP
        if link is not None:
            found["skew"] = skew
        if isinstance(link, Web):
            found["key_until"] = link.until
        await session.execute(
            update(System)
            .where(System.id == system.id)
            .values(found)
            .execution_options(synchronize_session=False)
        )
        if given is not None and document is not None:
            await session.flush()
            await hand_ins.arrived(context, session, run, document, backup)
        elif wanted.hold:
            await session.flush()
            await note_delivery.set_hold(context, session, backup, wanted.hold, run.by, on=True)
        if given is None:
            await session.flush()
            await guard.look_at(context, session, backup, journal, in_clear=not vault.locked)
        await enqueue_copies(context, session, run, begun.routine, taken.reference.backup)
        backup.unchanged = await _is_unchanged(session, taken, differs)
        sizes = taken.reference.sizes
        run.odd, run.documents, run.size = odd, sizes.documents, sizes.bytes
        run.result = _result(taken, differs, unchanged=backup.unchanged)
        await queue.end(session, run, "done", context.now())
        told = backup.noted is not None
    if told:
        await note_delivery.deliver(context, [backup.id])


async def _keep_skew(context: Context, store: str, ahead: float) -> None:
    async with context.session() as session:
        skew = await _by_postgresql(context, session, ahead)
        await session.execute(update(StoreRow).where(StoreRow.id == store).values(skew=skew))


async def _machine_ahead(context: Context, ahead: float | None) -> float | None:
    """Seconds that the machine's clock is ahead. A difference that a person would hear of is not
    said of it unseen.
    """
    if ahead is None or context.simulated:
        return None
    if abs(ahead) <= MOST_SKEW:
        return ahead
    async with context.session() as session:
        return await _by_postgresql(context, session, ahead)


async def _by_postgresql(context: Context, session: AsyncSession, ahead: float) -> float | None:
    """How far a clock, seen to be ahead of ours, is ahead of PostgreSQL's; None: ours disagrees
    with that.

    It would else tell of our own clock alone, and blame the far side.
    """
    ours = context.now() - (await session.execute(select(func.clock_timestamp()))).scalar_one()
    return ahead + ours.total_seconds() if abs(ours) <= moments.APART else None


async def _is_unchanged(session: AsyncSession, taken: Taken, differs: Difference | None) -> bool:
    """Whether it is known that the backup before holds the same documents, modes and links, of the
    same parts.
    """
    if not taken.nothing_new or differs is None or differs or taken.reference.previous is None:
        return False
    before = await session.get(Backup, taken.reference.previous.backup)
    parts = [part.name for part in taken.head.parts]
    return (
        before is not None
        and before.documents == taken.reference.sizes.documents
        and [part.name for part in before.parts] == parts
    )


def _result(taken: Taken, differs: Difference | None, *, unchanged: bool) -> TakeResult:
    """``differs``: from what the same parts held before; None: it is not known."""
    sizes = taken.reference.sizes
    counts = differs.counted() if differs is not None else {}
    return TakeResult(
        backup=taken.reference.backup,
        documents=sizes.documents,
        bytes=sizes.bytes,
        new_bytes=taken.written.bytes,
        objects=taken.written.objects,
        unchanged=unchanged,
        changed=counts.get("changed"),
        new=counts.get("new"),
        gone=counts.get("gone"),
    )


def _oddness(context: Context, begun: Begun, size: int) -> str:
    """How a take that is about to end differs from the last ones of the same parts, in words."""
    if begun.run.started is None:
        return ""
    said = oddness(DoneTake((context.now() - begun.run.started).total_seconds(), size), begun.alike)
    return said[:1].upper() + said[1:]
