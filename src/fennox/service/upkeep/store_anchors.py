"""Recording each store's content in the own state and in the other stores, so that a store that was
set back is detected. The catalogue knows a store's backups, and the store's object names its notes.
Both are recorded at the end of a sweep and of a scrub; the next scrub compares the store with the
newest record, wherever that is.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping
from contextlib import suppress
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import StoreAnchor, StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import FennoxError
from fennox.core.format import notes, records
from fennox.core.format.anchors import Anchors, Loss, Present, SystemAnchor, digest_of, ranges
from fennox.core.format.header import decode
from fennox.core.time import parse_stamp, stamp
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, carry_notes
from fennox.engine.stores.faults import Report
from fennox.service.machines.context import Context

_GENERATION = re.compile(r"\.g(\d+)\.fxr$")


async def told(context: Context, row: StoreRow, others: Iterable[Vault]) -> list[Anchors]:
    """Anchors of a store from the own state and from reachable other stores. An anchor written by a
    fast clock would stay the newest until that date and hide later ones, so future anchors are
    ignored while there are others.
    """
    async with context.session() as session:
        kept = await session.get(StoreAnchor, row.id)
        found = [kept.told] if kept else []
    for vault in others:
        found += await vault.anchors_of(row.id)
    now = stamp(context.now())
    return [one for one in found if one.time <= now] or found


async def renew(context: Context, row: StoreRow, vault: Vault, journal: Journal) -> None:
    """Record a store's present content here and in every reachable other store."""
    made = await _measured(context, row, vault)
    async with context.session() as session:
        await session.merge(StoreAnchor(store_id=row.id, at=parse_stamp(made.time), told=made))
        others = (
            (await session.execute(select(StoreRow).where(StoreRow.id != row.id))).scalars().all()
        )
        doors = [await context.stores.door(session, other) for other in others]
    for door in doors:
        try:
            await (await context.stores.vault(door)).write_anchors(made)
        except FennoxError as error:
            await journal.log(
                "info", f"{door.name} does not learn what {row.name} holds now: {error.what}"
            )


async def for_sheet(session: AsyncSession, row: StoreRow) -> Anchors | None:
    """The newest anchor, with the backups catalogued since. None: unknown."""
    kept = await session.get(StoreAnchor, row.id)
    systems = await _catalogued(session, row.id)
    if kept is None and not systems:
        return None
    told = kept.told if kept else None
    before = {one.system: one for one in told.systems} if told else {}
    now = []
    for system, (name, folder, numbers) in sorted(systems.items()):
        anchor = before.get(system) or SystemAnchor(
            system=system, name=name, folder=folder, numbers=[], notes=0, digest=""
        )
        held = ranges(numbers.values())
        now.append(
            anchor
            if held == anchor.numbers
            else anchor.model_copy(update={"numbers": held, "digest": ""})
        )
    if told is not None:
        return told.model_copy(update={"systems": now})
    generation = decode(row.header.encode()).generation
    return Anchors(store=row.id, time=stamp(row.created), by="", generation=generation, systems=now)


async def _measured(context: Context, row: StoreRow, vault: Vault) -> Anchors:
    now = context.now()
    here: dict[str, Present] = defaultdict(Present)
    async with context.session() as session:
        systems = await _catalogued(session, row.id)
    folders = {short: system for system, (_, _, numbers) in systems.items() for short in numbers}
    newest: dict[str, tuple[int, str]] = {}
    async for found in vault.store.list("systems/"):
        short = records.short_id(found.name)
        system = folders.get(short)
        if system is None:
            continue  # taken since the catalogue was read, or unknown to it
        if found.name.endswith(".fxr"):
            match = _GENERATION.search(found.name)
            newest[short] = max(
                newest.get(short, (0, "")), (int(match[1]) if match else 1, found.name)
            )
        elif found.name.endswith(".fxn"):
            here[system].notes[found.name] = ""
    for short, (_, name) in newest.items():
        here[folders[short]].numbers.add(systems[folders[short]][2][short])
        here[folders[short]].records.add(name)
    return Anchors(
        store=row.id,
        time=stamp(now),
        by=context.service_id,
        generation=decode(row.header.encode()).generation,
        systems=[
            SystemAnchor(
                system=system,
                name=systems[system][0],
                folder=systems[system][1],
                numbers=ranges(present.numbers),
                notes=len(present.notes),
                digest=digest_of([*present.records, *present.notes]),
            )
            for system, present in sorted(here.items())
        ],
    )


async def _catalogued(
    session: AsyncSession, store: str
) -> dict[str, tuple[str, str, dict[str, int]]]:
    """By system: name, folder, and backup numbers in a store by short id."""
    query = (
        select(System.id, System.name, System.folder, Backup.id, Backup.sequence)
        .select_from(Copy)
        .join(Backup)
        .join(System)
        .where(Copy.store_id == store)
    )
    found: dict[str, tuple[str, str, dict[str, int]]] = {}
    for system, name, folder, backup, sequence in await session.execute(query):
        found.setdefault(system, (name, folder, {}))[2][backup[:8]] = sequence
    return found


async def tell_again(
    context: Context,
    here: Holding,
    others: Mapping[str, Holding],
    losses: list[Loss],
    report: Report,
) -> str:
    """Rewrite lost notes known to other stores or the catalogue. Returns the restored ones."""
    systems = {loss.system for loss in losses if loss.notes or loss.exchanged}
    written = 0
    for record in report.records.values():
        if record.reference.system in systems:
            for other in others.values():
                with suppress(
                    FennoxError
                ):  # it lacks the backup, or is unreachable: try the next one
                    there = await other.vault.find_record(record.reference.backup)
                    written += await carry_notes(
                        other.vault, there.reference, here.vault, record.reference
                    )
            written += await _said_in_catalogue(context, here.vault, record)
    verb = "notes are" if written != 1 else "note is"
    return (
        f"{written} {verb} rewritten, of what other stores and the catalogue know; any others"
        " stay gone"
    )


async def _said_in_catalogue(context: Context, vault: Vault, record: records.Record) -> int:
    """Holds and doubts in the catalogue but not in the store."""
    standing = notes.merge(
        list((await vault.notes_of(vault.record_name(record.reference))).values())
    )
    async with context.session() as session:
        backup = await session.get(Backup, record.reference.backup)
        if backup is None:
            return 0
        at = max(
            filter(None, [context.now(), backup.noted and backup.noted + timedelta(seconds=1)])
        )
        facts: list[tuple[notes.Fact, str]] = []
        if backup.held and not standing.held:
            facts.append(("hold", backup.held_because))
        if backup.doubtful and not standing.doubtful:
            facts.append(("doubtful", backup.doubtful_because))
        if facts:
            backup.noted = at
    for fact, reason in facts:
        said = notes.Note(
            fact=fact,
            backup=record.reference.backup,
            system=record.reference.system,
            time=stamp(at),
            by="scrub",
            reason=reason,
        )
        await vault.write_note(said, record.reference)
    return len(facts)
