"""What people export in a system's own console and hand in: checked, taken into a backup, held
until the next one.

The content is stored, sealed under the key file, only until its backup exists. That backup stays on
hold until a newer export of the same document has been taken, so no ladder removes the only copy of
something no machine can provide.
"""

from __future__ import annotations

import secrets
from collections import defaultdict
from datetime import datetime, timedelta

from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import IS_ACTIVE, Run
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import HandedIn, System
from fennox.core.errors import BadInput, NotFound
from fennox.core.evidence import evaluation
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.format.manifest import Finding, Severity
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Hand, PartModel, Source
from fennox.core.regexes import compiled
from fennox.engine.takes import take_order
from fennox.service.backups import note_delivery
from fennox.service.machines.context import Context
from fennox.service.runs import new_runs

_BY = "hand-in"
LONGEST = 64 * 1024 * 1024  # bytes of one document


def wanted(kind: Kind, document: str | None) -> tuple[PartModel, Source, Hand]:
    """The document's source; may be omitted if the kind has only one."""
    known = kind.hand_ins()
    fitting = [found for found in known if document is None or found[1].document == document]
    if len(fitting) == 1:
        return fitting[0]
    names = ", ".join(str(source.document) for _, source, _ in known)
    if not known:
        raise BadInput(
            f"Of a {kind.title} nothing is handed in.",
            "Take a backup: it is read from the machine.",
        )
    if document is None:
        raise BadInput("The document is not named.", f"Say one of: {names}.", field="document")
    raise NotFound(
        f"Nobody hands in {document!r} for a {kind.title}.", f"There is: {names}.", field="document"
    )


def check(content: bytes, source: Source, hand: Hand) -> None:
    """Raise if the document cannot be of the expected type."""
    most = min(source.ceiling, LONGEST)
    if not content or len(content) > most:
        what = "is empty" if not content else f"has more than {most} bytes"
        raise BadInput(
            f"The file {what}.",
            "Export it again, and hand in what the console saved.",
            field="content",
        )
    if hand.fits is not None and not compiled(hand.fits).fits(content.decode("utf-8", "replace")):
        raise BadInput(
            f"This does not look like {source.document}: nothing in it fits {hand.fits}.",
            hand.how,
            field="content",
        )


async def hand_in(
    context: Context,
    session: AsyncSession,
    system: System,
    store: StoreRow,
    content: bytes,
    document: str | None,
    by: str,
    note: str,
) -> Run:
    """Store it sealed, and queue the take that puts it into a backup."""
    kind, _ = context.kinds.kind(system.kind)
    part, source, hand = wanted(kind, document)
    check(content, source, hand)
    name = str(source.document)
    run = await new_runs.enqueue(
        session,
        TakeOrder(note=note, parts=[part.name], handed_in=name),
        new_runs.About(system_id=system.id, store_id=store.id, backup_id=secrets.token_hex(16)),
        by=by,
        now=context.now(),
    )
    row = await session.get(HandedIn, (system.id, name))
    if row is None:
        row = HandedIn(
            system_id=system.id, document=name, at=context.now(), by=by, size=len(content)
        )
        session.add(row)
    row.sealed = context.keyfile.seal(content, place(system.id, name))
    return run


def place(system: str, document: str) -> str:
    return f"handed_in|{system}|{document}|content"


async def given(
    context: Context, session: AsyncSession, system: System, document: str
) -> take_order.HandedInDocuments:
    """Inputs of the take."""
    kind, _ = context.kinds.kind(system.kind)
    row = await session.get(HandedIn, (system.id, document))
    if row is None or row.sealed is None:
        raise NotFound(f"What was handed in as {document} is no longer kept.", "Hand it in again.")
    content = context.keyfile.open(row.sealed, place(system.id, document))
    if kind.reach == "hand":
        machine = evaluation.machine(kind, {document: content})
    elif system.machine is None:
        raise NotFound(
            f"{system.name} never said which machine it is.", "Take a backup of it first."
        )
    else:
        machine = system.machine
    return take_order.HandedInDocuments(machine, {document: content})


async def arrived(
    context: Context, session: AsyncSession, run: Run, document: str, backup: Backup
) -> None:
    """After the take: hold the backup, release the previous one, and delete the content from the
    database.
    """
    row = await session.get_one(HandedIn, (run.system_id, document))
    await note_delivery.set_hold(
        context, session, backup, f"holds the newest {document} that was handed in", _BY, on=True
    )
    before = await session.get(Backup, row.backup_id) if row.backup_id else None
    if before is not None and before.held_because.endswith("that was handed in"):
        await note_delivery.set_hold(
            context, session, before, f"a newer {document} was handed in", _BY, on=False
        )
    row.at, row.by, row.backup_id, row.sealed = context.now(), run.by, backup.id, None
    row.size = backup.size


async def forget_left_over(context: Context) -> None:
    """Delete content whose take failed or was stopped; it must be handed in again."""
    async with context.session() as session:
        active = select(Run.system_id).where(IS_ACTIVE, Run.system_id.is_not(None))
        await session.execute(
            update(HandedIn)
            .where(HandedIn.sealed.is_not(None), HandedIn.system_id.not_in(active))
            .values(sealed=None)
            .execution_options(synchronize_session=False)
        )


async def lacking(
    context: Context, session: AsyncSession, systems: list[System]
) -> dict[str, list[Finding]]:
    """Each system's documents never handed in, or due again."""
    installed = {
        name: context.kinds.installed(name) for name in {system.kind for system in systems}
    }
    wanted_of = {
        name: kind.hand_ins()
        for name, kind in installed.items()
        if kind is not None and kind.hand_ins()
    }
    found: dict[str, list[Finding]] = defaultdict(list)
    if not wanted_of:
        return found
    rows = select(HandedIn.system_id, HandedIn.document, HandedIn.at).where(
        HandedIn.backup_id.is_not(None)
    )
    known = {(row.system_id, row.document): row.at for row in await session.execute(rows)}
    for system in systems:
        for part, source, hand in wanted_of.get(system.kind, []):
            at = known.get((system.id, str(source.document)))
            severity: Severity = "warning" if at is None and part.essential else "note"
            if (text := _due(part, hand, at, context.now())) is not None:
                found[system.id].append(
                    Finding(
                        severity=severity,
                        code="hand-in-due",
                        subject=str(source.document),
                        text=text,
                        remedy=f"{hand.how} Then: fennox backup hand-in {system.name} FILE",
                    )
                )
    return found


def _due(part: PartModel, hand: Hand, at: datetime | None, now: datetime) -> str | None:
    """Why it is due again, or None. ``at``: the last hand-in."""
    if at is None:
        return f"{part.title} was never handed in."
    days = (now - at).days
    if now - at <= timedelta(days=hand.every):
        return None
    return f"{part.title} was handed in {days} days ago, and is due every {hand.every}."
