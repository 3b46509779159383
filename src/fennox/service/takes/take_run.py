"""A take as a run: the engine's inputs, and the catalogue entry of the backup."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, replace

from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import Run
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
from fennox.engine.takes.take_order import HandedInDocuments, Subject, Taken, TakeRequest, TakeTools
from fennox.engine.takes.unchanged_machine import RecordPlace
from fennox.links.base import Link, Web
from fennox.service.backups import note_delivery
from fennox.service.backups.catalogue_entry import keep_backup
from fennox.service.drops import arrivals
from fennox.service.drops.drop_settings import settings_row
from fennox.service.drops.spools import SystemDrop, drop_of
from fennox.service.machines import login_uses, own_secrets
from fennox.service.machines.context import Context
from fennox.service.machines.default_logins import look_again
from fennox.service.machines.doors import Door
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.takes import guard, hand_ins, last_seen
from fennox.service.takes.take_begun import Begun, next_order, read_begun, subject_of
from fennox.service.takes.unchanged_take import Ending, enter
from fennox.service.upkeep.store_runs import enqueue_copies


async def run_take(context: Context, lease: Lease, journal: Journal) -> None:
    prepared = await _prepare(context, lease)
    begun, subject = prepared.begun, prepared.subject
    if subject.kind.reach == "service":
        async with context.session() as session:
            await own_secrets.seal_secrets(session, context.keyfile, context.now())
    vault = await context.stores.vault(prepared.door, lately=prepared.is_routine)
    order = replace(_order(begun, apart=vault.locked), measure=context.stores.measures(begun.store))
    tools = TakeTools(
        vault,
        context.stores.index(begun.store.id),
        journal,
        context.readings,
        context.carvers,
        prepared.drop,
    )
    made = await _take(context, lease, prepared, tools, order)
    await look_again(context, subject.kind, begun.system, begun.login, journal)
    if made.taken.store_ahead is not None:
        await _keep_skew(context, begun.store.id, made.taken.store_ahead)
    skew = await _machine_ahead(context, made.taken.skew)
    odd = _oddness(context, begun, made.taken) if prepared.wanted.handed_in is None else ""
    if not await _end_unchanged(context, lease, prepared, made.taken, skew, odd):
        await _end(context, lease, prepared, made, tools, skew, odd)
    await asyncio.to_thread(prepared.drop.empty)


@dataclass(frozen=True)
class _Prepared:
    """``handed_in``: documents that came by themselves, instead of the machine's."""

    begun: Begun
    subject: Subject
    door: Door
    wanted: TakeOrder
    handed_in: HandedInDocuments | None
    drop: SystemDrop

    @property
    def is_routine(self) -> bool:
        return self.begun.run.routine_id is not None


async def _prepare(context: Context, lease: Lease) -> _Prepared:
    async with context.session(single=True) as session:
        begun = await read_begun(session, lease)
        subject = await subject_of(context, session, begun.system)
        lately = begun.run.routine_id is not None
        door = await context.stores.door(
            session, begun.store, generations=begun.keys, lately=lately
        )
        wanted = of_kind(begun.run.order, TakeOrder)
        drop = drop_of(context, begun.system.id, wanted.pushed)
        if subject.kind.trusts is not None:
            settings = await settings_row(session)
            drop.fingerprint = settings.host_key if settings is not None else ""
        given = await _given(context, session, begun.system, wanted, drop)
    return _Prepared(begun, subject, door, wanted, given, drop)


async def _given(
    context: Context, session: AsyncSession, system: System, wanted: TakeOrder, drop: SystemDrop
) -> HandedInDocuments | None:
    if wanted.handed_in is not None:
        return await hand_ins.given(context, session, system, wanted.handed_in)
    if wanted.pushed is not None or _is_pushed(context, system, wanted):
        return await arrivals.given(context, system, drop)
    return None


def _is_pushed(context: Context, system: System, wanted: TakeOrder) -> bool:
    """Whether everything that a person asks for has been pushed, or will be."""
    kind, _ = context.kinds.kind(system.kind)
    if wanted.parts is None:
        return kind.reach == "push"
    return all(
        kind.part_named(name).pushed is not None for name in parts_to_take(kind, wanted.parts)
    )


def _order(begun: Begun, *, apart: bool) -> TakeRequest:
    """``apart``: the store is in custody apart, so the service cannot read earlier backups."""
    run = begun.run
    assert run.backup_id is not None
    order = next_order(run, begun.last, backup=run.backup_id, time=stamp(run.created), apart=apart)
    # a person's take reads everything; a routine's take may reuse unchanged files
    trust = run.routine_id is not None and not apart
    if trust and begun.last is not None:
        place = RecordPlace(begun.system.folder, stamp(begun.last.time), begun.last.name)
        order = replace(order, likeness=begun.likeness, before=place)
    routine = begun.routine.name if begun.routine else None
    return replace(order, routine=routine, trust=trust)


@dataclass(frozen=True)
class _Made:
    """``link``: the connection used for reading; closed here."""

    taken: Taken
    link: Link | None


async def _take(
    context: Context, lease: Lease, prepared: _Prepared, tools: TakeTools, order: TakeRequest
) -> _Made:
    if prepared.handed_in is not None:
        taken = await take(
            tools, None, prepared.subject, order, any_machine=False, handed_in=prepared.handed_in
        )
        return _Made(taken, None)
    system, login, subject = prepared.begun.system, prepared.begun.login, prepared.subject
    await tools.journal.step(f"Reach {system.address}")

    async def reach() -> Link:
        use = login_uses.of_system(subject.kind, system, login)
        return await context.machines.connect(subject.kind, use, way_to(system), kept=True)

    async def note(left: list[str]) -> None:
        async with context.session() as session:
            await queue.owned(session, lease)
            (await session.get_one(System, system.id)).left_open = list(left)

    link = await reach()
    try:
        around = Surroundings(
            subject.kind,
            subject.settings,
            link,
            reach,
            note,
            tools.journal,
            list(system.left_open),
        )
        async with around.held(parts_to_take(subject.kind, order.parts)):
            return _Made(await take(tools, link, subject, order, any_machine=False), link)
    finally:
        await link.close()


async def _end_unchanged(
    context: Context,
    lease: Lease,
    prepared: _Prepared,
    taken: Taken,
    skew: float | None,
    odd: str,
) -> bool:
    """End a take that read nothing, in one statement; False: use the general way."""
    begun = prepared.begun
    if not taken.as_before or prepared.wanted.hold:
        return False
    result = _result(taken, Difference([], [], 0), unchanged=True)
    ending = Ending(begun.store.id, taken, skew, odd, result)
    if begun.routine is None or not begun.routine.copy_to:
        async with context.alone() as database:
            return await enter(database, lease, ending, context.now())
    async with context.session() as session:
        if not await enter(session, lease, ending, context.now()):
            return False
        await enqueue_copies(context, session, begun.run, begun.routine, taken.reference.backup)
        return True


async def _end(
    context: Context,
    lease: Lease,
    prepared: _Prepared,
    made: _Made,
    tools: TakeTools,
    skew: float | None,
    odd: str,
) -> None:
    """Enter the backup and its consequences in the transaction that ends the run."""
    begun, taken, vault = prepared.begun, made.taken, tools.vault
    async with context.session() as session:
        run = await queue.owned(session, lease, ending=True)
        backup = keep_backup(session, run, begun.system.id, begun.store.id, taken, vault)
        differs = None
        if prepared.handed_in is None:
            differs = await last_seen.remember(session, begun.system.id, taken, vault)
        seen = _seen(made, skew, handed_in=prepared.handed_in is not None)
        chosen = update(System).where(System.id == begun.system.id).values(seen)
        await session.execute(chosen.execution_options(synchronize_session=False))
        await session.flush()
        await _follow_up(context, session, run, prepared, backup, tools)
        await enqueue_copies(context, session, run, begun.routine, taken.reference.backup)
        backup.unchanged = await _is_unchanged(session, taken, differs)
        sizes = taken.reference.sizes
        run.odd, run.documents, run.size = odd, sizes.documents, sizes.bytes
        run.result = _result(taken, differs, unchanged=backup.unchanged)
        await queue.end(session, run, "done", context.now())
        has_notes = backup.noted is not None
    if has_notes:
        await note_delivery.deliver(context, [backup.id])


def _seen(made: _Made, skew: float | None, *, handed_in: bool) -> dict[str, object]:
    """Changed columns of the system."""
    seen: dict[str, object] = {"machine": made.taken.head.machine}
    if not handed_in:
        seen |= last_seen.AS_ITS_BACKUP
    if made.link is not None:
        seen["skew"] = skew
    if isinstance(made.link, Web):
        seen["key_until"] = made.link.until
    return seen


async def _follow_up(
    context: Context,
    session: AsyncSession,
    run: Run,
    prepared: _Prepared,
    backup: Backup,
    tools: TakeTools,
) -> None:
    """Finish a hand-in, apply a requested hold, and run the guard."""
    wanted = prepared.wanted
    if wanted.handed_in is not None:
        await hand_ins.arrived(context, session, run, wanted.handed_in, backup)
        return
    if wanted.hold:
        await note_delivery.set_hold(context, session, backup, wanted.hold, run.by, on=True)
    await guard.look_at(context, session, backup, tools.journal, in_clear=not tools.vault.locked)


async def _keep_skew(context: Context, store: str, ahead: float) -> None:
    async with context.session() as session:
        skew = await _by_postgresql(context, session, ahead)
        await session.execute(update(StoreRow).where(StoreRow.id == store).values(skew=skew))


async def _machine_ahead(context: Context, ahead: float | None) -> float | None:
    """Seconds the machine's clock is ahead. A reportable difference is measured again first."""
    if ahead is None or context.simulated:
        return None
    if abs(ahead) <= MOST_SKEW:
        return ahead
    async with context.session() as session:
        return await _by_postgresql(context, session, ahead)


async def _by_postgresql(context: Context, session: AsyncSession, ahead: float) -> float | None:
    """Converts a clock's offset from ours to an offset from PostgreSQL's; None if ours disagrees
    with that. Otherwise our own clock's error would be blamed on the far side.
    """
    ours = context.now() - (await session.execute(select(func.clock_timestamp()))).scalar_one()
    return ahead + ours.total_seconds() if abs(ours) <= moments.APART else None


async def _is_unchanged(session: AsyncSession, taken: Taken, differs: Difference | None) -> bool:
    """Whether the previous backup is known to hold the same documents, modes and links, of the same
    parts.
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
    """``differs``: from the previous state of the same parts; None: unknown."""
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


def _oddness(context: Context, begun: Begun, taken: Taken) -> str:
    """How an ending take differs from the last ones of the same parts, as text."""
    if begun.run.started is None:
        return ""
    seconds = (context.now() - begun.run.started).total_seconds()
    said = oddness(DoneTake(seconds, taken.reference.sizes.bytes), begun.alike)
    return said[:1].upper() + said[1:]
