"""What has arrived: judged by the system's kind, and taken into a backup once it is whole.

However often a system pushes, there is one backup for each quiet time, and the ladder of its
routine decides which of them stay.
"""

from __future__ import annotations

import asyncio
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import cast, select
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.base import constant
from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput, Conflict, Damaged, NotFound
from fennox.core.evidence import evaluation, pushes
from fennox.core.evidence.pushes import Lacking, StillComing, Whole
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.format.manifest import Machine
from fennox.core.kinds.expressions import wanted
from fennox.core.kinds.model import Kind
from fennox.core.kinds.pushes import Push
from fennox.core.kinds.sources import PartModel
from fennox.drop.spool import Spool, SpoolNote
from fennox.engine.reading.pushed import told_of
from fennox.engine.takes.take_order import HandedInDocuments
from fennox.service.drops.spools import SystemDrop, drop_of, spool_of
from fennox.service.machines.context import Context
from fennox.service.queries import selectors
from fennox.service.runs import new_runs
from fennox.wire.drops import Arrived

Judgement = Whole | StillComing | Lacking | None
_AGAIN = timedelta(hours=1)  # until a push whose take failed is tried once more
_LONGEST_IDENTITY = 16 * 1024 * 1024  # bytes of a document that says which system it is of


def pushed_parts(kind: Kind) -> list[tuple[PartModel, Push]]:
    return [(part, part.pushed) for part in kind.part if part.pushed is not None]


def all_pushes(kind: Kind) -> list[Push]:
    """Also those that a take asks for."""
    return [source.push for part in kind.part for source in part.source if source.push is not None]


@dataclass(frozen=True)
class JudgedPush:
    """A part of a system, and what of it lies in the spool."""

    part: PartModel
    push: Push
    judgement: Judgement


async def judged(kind: Kind, drop: SystemDrop) -> list[JudgedPush]:
    """Every part that is pushed by itself."""
    arrivals = await asyncio.to_thread(drop.arrivals)
    found = []
    for part, push in pushed_parts(kind):
        mine = [one for one in arrivals if pushes.belongs(push, one.name)]
        try:
            told = await told_of(drop, push, mine)
            judgement = pushes.judge(push, mine, told, drop.now())
        except Damaged as error:
            judgement = Lacking([error.what])
        found.append(JudgedPush(part, push, judgement))
    return found


async def decide(context: Context) -> datetime | None:
    """Queue a take for every push that is whole. Returns the moment at which another may be; None:
    when something else arrives.
    """
    spool = spool_of(context)
    waiting = await asyncio.to_thread(spool.systems)
    soonest: datetime | None = None
    for system_id in waiting:
        async with context.session() as session:
            system = await session.get(System, system_id)
            if system is None:
                await asyncio.to_thread(_forget, spool, system_id)
                continue
            kind = context.kinds.installed(system.kind)
            if kind is None or system.retired is not None or system.suspended_because:
                continue
            for one in await judged(kind, drop_of(context, system_id)):
                match one.judgement:
                    case Whole():
                        await _queue(context, session, system, one.part, one.judgement)
                    case StillComing(until) if until is not None:
                        soonest = min(soonest or until, until)
                    case _:
                        pass
    return soonest


def _forget(spool: Spool, system_id: str) -> None:
    """Of a system that was removed; its account is gone with it."""
    jail = spool.jail(system_id)
    for note in jail.notes():
        if note.id not in spool.live:
            jail.remove(note)


async def _queue(
    context: Context, session: AsyncSession, system: System, part: PartModel, whole: Whole
) -> None:
    place = await place_for(session, system, part)
    order = TakeOrder(parts=[part.name], pushed=[one.id for one in whole.arrivals])
    if place is None or await _failed_lately(context, session, system, order):
        return  # a concern says so
    routine, store_id = place
    about = new_runs.About(
        system_id=system.id,
        store_id=store_id,
        routine_id=routine.id if routine else None,
        backup_id=secrets.token_hex(16),
    )
    try:
        await new_runs.enqueue(session, order, about, by="the system itself", now=context.now())
    except Conflict:
        return  # a run of this system is active; it is decided again soon


async def _failed_lately(
    context: Context, session: AsyncSession, system: System, order: TakeOrder
) -> bool:
    """Whether a take of the very same files has failed, and has nothing to hope for yet."""
    before = select(Run.id).where(
        Run.system_id == system.id,
        Run.kind == constant("take"),
        Run.state.in_(["failed", "stopped"]),
        Run.created > context.now() - _AGAIN,
        Run.order["pushed"] == cast(order.pushed, JSONB),
    )
    return (await session.execute(before.limit(1))).first() is not None


async def place_for(
    session: AsyncSession, system: System, part: PartModel
) -> tuple[Routine | None, str] | None:
    """The routine by whose ladder a push is kept, and the store it goes to: the routine's, or that
    of the newest backup. None: neither is known.
    """
    rows = (await session.execute(select(Routine).order_by(Routine.created))).scalars().all()
    mine = [row for row in rows if row.mode != "off" and selectors.takes(row.systems, system)]
    named = [row for row in mine if row.parts and part.name in row.parts]
    if chosen := [*named, *(row for row in mine if not row.parts), *mine]:
        return chosen[0], chosen[0].store_id
    newest = (
        select(Copy.store_id)
        .join(Backup, Backup.id == Copy.backup_id)
        .where(Backup.system_id == system.id)
        .order_by(Backup.time.desc())
        .limit(1)
    )
    store = (await session.execute(newest)).scalar_one_or_none()
    return None if store is None else (None, store)


async def given(context: Context, system: System, drop: SystemDrop) -> HandedInDocuments:
    """The machine of a push. Raises NotFound."""
    kind, _ = context.kinds.kind(system.kind)
    if kind.reach != "push":
        if system.machine is None:
            raise NotFound(
                f"{system.name} never said which machine it is.", "Take a backup of it first."
            )
        return HandedInDocuments(system.machine, {})
    machine = await _machine(kind, drop)
    return HandedInDocuments(machine, {})


async def _machine(kind: Kind, drop: SystemDrop) -> Machine:
    """Who pushed, as its documents say."""
    identity = kind.identity
    read = [identity.id.in_, identity.product.in_, identity.version.in_]
    read += [one.in_ for one in (identity.build, identity.platform, identity.name) if one]
    contents: dict[str, bytes] = {}
    for arrival in await asyncio.to_thread(drop.arrivals):
        if wanted(read, arrival.name):
            if arrival.size > _LONGEST_IDENTITY:
                raise BadInput(
                    f"{arrival.name} is too long to be read for who pushed it.",
                    "Have the kind read it from a shorter document.",
                )
            contents[arrival.name] = b"".join([block async for block in drop.content(arrival)])
    if not contents:
        titles = ", ".join(part.title for part, _ in pushed_parts(kind))
        raise BadInput(f"{titles} is not at the drop.", "It is taken when the system pushes it.")
    return evaluation.machine(kind, contents)


def arrived_of(notes: list[SpoolNote], kind: Kind | None) -> list[Arrived]:
    known = all_pushes(kind) if kind is not None else []
    return [
        Arrived(
            name=note.name.lstrip("/"),
            size=note.size,
            begun=note.begun,
            ended=note.ended,
            state=note.state,
            sealed=not note.in_clear,
            problem=note.problem,
            expected=any(pushes.belongs(push, note.name.lstrip("/")) for push in known),
        )
        for note in notes
    ]


async def waits(session: AsyncSession, system: System, kind: Kind, drop: SystemDrop) -> str:
    """What is being waited for or missing, as text."""
    said = []
    for one in await judged(kind, drop):
        match one.judgement:
            case Whole() if await place_for(session, system, one.part) is None:
                said.append(f"{one.part.title} is whole, and no routine says where it is kept.")
            case Whole():
                said.append(f"{one.part.title} is whole and is to be taken.")
            case StillComing(None):
                said.append(f"{one.part.title} is arriving.")
            case StillComing(until):
                assert until is not None
                said.append(
                    f"{one.part.title} counts as whole at {until:%H:%M:%S} UTC if nothing more"
                    " arrives."
                )
            case Lacking(says):
                said.append(f"{one.part.title} is not whole: {' '.join(says)}")
            case None:
                pass
    return " ".join(said)


async def discard(context: Context, system: System, name: str) -> SpoolNote:
    """Remove a file that nobody needs. Raises NotFound, and Conflict while it is being written."""

    def done() -> SpoolNote:
        jail = spool_of(context).jail(system.id)
        note = jail.note(f"/{name.lstrip('/')}")
        if note is None:
            raise NotFound(f"{system.name} has pushed no {name}.", "See: fennox drop show")
        if note.state == "arriving":
            raise Conflict(f"{name} is being written.", "Wait until it has arrived.")
        jail.remove(note)
        return note

    return await asyncio.to_thread(done)
