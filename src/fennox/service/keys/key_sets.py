"""Key sets: their passphrases, who can open, and the headers that carry this into every store of
the set.

A changed header is pinned in the catalogue first and then written to the stores; a store that was
away gets it the next time it is opened. So the service never meets a newer header than the one it
knows.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import KeySet, StoreRow, Trial
from fennox.core.errors import Conflict, FennoxError, NotFound
from fennox.core.facts.concerns import ConcernFound
from fennox.core.format import generations
from fennox.core.format import header as headers
from fennox.core.format.header import Header
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.slots import FLOOR_WORK, Slot
from fennox.core.time import parse_stamp, stamp
from fennox.core.words import size
from fennox.engine.backups import opened_store
from fennox.engine.backups.vault import Vault
from fennox.service.machines.context import Context
from fennox.wire.stores import Custody, KeySetShown, PassphraseShown

TRY_WITHIN = timedelta(days=90)  # a passphrase never typed is a passphrase forgotten


async def key_set_named(session: AsyncSession, name: str) -> KeySet:
    """The newest generation of a key set, by its name."""
    query = select(KeySet).where(KeySet.name == name).order_by(KeySet.generation.desc()).limit(1)
    row = (await session.execute(query)).scalar_one_or_none()
    if row is None:
        raise NotFound(
            f"There is no key set {name}.", "`fennox passphrase list` shows those there are."
        )
    return row


async def stores_of(session: AsyncSession, keys: KeySet) -> list[StoreRow]:
    query = select(StoreRow).where(
        StoreRow.key_set == keys.id, StoreRow.generation == keys.generation
    )
    return list((await session.execute(query.order_by(StoreRow.created))).scalars())


def header_of(row: StoreRow) -> Header:
    return headers.decode(row.header.encode())


async def shown(session: AsyncSession, keys: KeySet) -> KeySetShown:
    rows = await stores_of(session, keys)
    tried = {
        trial.slot: trial
        for trial in (
            await session.execute(select(Trial).where(Trial.key_set == keys.id))
        ).scalars()
    }
    slots = header_of(rows[0]).slots if rows else []
    return KeySetShown(
        name=keys.name,
        custody=keys.custody,
        suite=keys.suite,
        generation=keys.generation,
        stores=[row.name for row in rows],
        passphrases=[
            PassphraseShown(
                id=slot.id,
                label=slot.label,
                since=parse_stamp(slot.since),
                memory_kib=slot.costs.memory,
                passes=slot.costs.passes,
                tried=tried[slot.id].at if slot.id in tried else None,
                tried_by=tried[slot.id].by if slot.id in tried else None,
            )
            for slot in slots
        ],
    )


async def earlier_keys(
    session: AsyncSession, keys: KeySet, opening: OpeningKey
) -> list[tuple[KeySet, OpeningKey]]:
    """The generations before this one that its opening key leads to."""
    rows = {
        row.generation: row
        for row in (await session.execute(select(KeySet).where(KeySet.id == keys.id))).scalars()
    }
    chain = {
        number: row.previous_opening_key
        for number, row in rows.items()
        if row.previous_opening_key is not None
    }
    found = generations.all_openings(opening, keys.id, keys.generation, chain)
    return [(rows[number], key) for number, key in found.items() if number < keys.generation]


async def pin_slots(
    context: Context,
    session: AsyncSession,
    rows: list[StoreRow],
    opening: OpeningKey,
    change: Callable[[list[Slot]], list[Slot]],
) -> list[StoreRow]:
    """Pin a header with changed slots for every store of the set."""
    for row in rows:
        header = header_of(row)
        await pin(
            context,
            session,
            row,
            opening,
            header.model_copy(update={"slots": change(header.slots)}),
        )
    return rows


async def pin(
    context: Context, session: AsyncSession, row: StoreRow, opening: OpeningKey, wanted: Header
) -> None:
    """Sign a changed header and pin it; :func:`write_pinned` puts it into the store once that is
    committed.
    """
    renewed = wanted.model_copy(
        update={"revision": wanted.revision + 1, "written": stamp(context.now())}
    )
    data = headers.encode(renewed.signed(await context.stores.write_secret(session, row), opening))
    row.header, row.header_digest = data.decode(), blake2b_256(data)


async def write_pinned(context: Context, rows: list[StoreRow], opening: OpeningKey) -> list[str]:
    """Write the pinned headers into their stores. Returns unreachable stores, as text."""
    away = []
    for row in rows:
        try:
            async with context.session() as session:
                door = await context.stores.door(session, row, removing=True)
                earlier = await earlier_of(session, row)
            vault = await context.stores.vault(door)
            vault.unlock(opening)
            await opened_store.forget_old_headers(vault)
            await renew_earlier(vault, earlier)
        except FennoxError as error:
            away.append(f"{row.name} gets the new header when it can be reached: {error.what}")
    return away


async def earlier_of(session: AsyncSession, row: StoreRow) -> list[KeySet]:
    """The generations before that of a store's newest objects."""
    query = select(KeySet).where(KeySet.id == row.key_set, KeySet.generation < row.generation)
    return list((await session.execute(query.order_by(KeySet.generation))).scalars())


async def renew_earlier(vault: Vault, earlier: list[KeySet]) -> None:
    """Lock the earlier generations under the present passphrases, in the store itself."""
    for keys in earlier:
        slots = keys.slots or []
        if slots:
            await opened_store.renew_slots(vault, keys.generation, slots)


async def change_custody(
    context: Context, session: AsyncSession, keys: KeySet, opening: OpeningKey, custody: Custody
) -> None:
    """``apart`` forgets the opening key, and the names that lie in clear in the catalogue; ``kept``
    keeps it.
    """
    if keys.custody == custody:
        raise Conflict(
            f"The key set {keys.name} is {custody} already.", "There is nothing to change."
        )
    keys.custody = custody
    if custody == "kept":
        place = f"key_sets|{keys.id}|{keys.generation}|opening key"
        keys.sealed_opening_key = context.keyfile.seal(opening.raw, place)
        return
    keys.sealed_opening_key = None
    rows = await stores_of(session, keys)
    secret = await context.stores.write_secret(session, rows[0])
    here = select(Copy.backup_id).where(Copy.store_id.in_([row.id for row in rows]))
    for backup in (await session.execute(select(Backup).where(Backup.id.in_(here)))).scalars():
        backup.census = secret.keyed_census(backup.census)


async def concerns(context: Context, session: AsyncSession) -> list[ConcernFound]:
    """Key sets whose passphrases have not been tried for long, and slots that are cheap
    to attack.
    """
    found = []
    last = select(Trial.key_set, func.max(Trial.at)).group_by(Trial.key_set)
    tried = {key_set: at for key_set, at in await session.execute(last)}
    newest = (
        select(KeySet).ext(distinct_on(KeySet.id)).order_by(KeySet.id, KeySet.generation.desc())
    )
    for keys in (await session.execute(newest)).scalars():
        found += await _cheap_ones(context, session, keys)
        since = max(filter(None, (keys.created, tried.get(keys.id))))
        if context.now() - since > TRY_WITHIN:
            days = (context.now() - since).days
            found.append(
                ConcernFound(
                    code="not-tried",
                    severity="low",
                    noun="service",
                    about=keys.name,
                    text=(
                        f"Nobody has tried a passphrase of the key set {keys.name} for {days} days."
                    ),
                    remedy=f"Run: fennox passphrase try --key-set {keys.name}",
                    since=since,
                )
            )
    return found


async def _cheap_ones(context: Context, session: AsyncSession, keys: KeySet) -> list[ConcernFound]:
    rows = await stores_of(session, keys)
    if not rows or context.settings.weak_slots:
        return []
    return [
        ConcernFound(
            code="cheap-passphrase",
            severity="low",
            noun="service",
            about=f"{keys.name}, {slot.label}",
            text=(
                f"Whoever has a copy of a store can try guesses at the passphrase {slot.label} of"
                f" the key set {keys.name} cheaply: each fills {size(slot.costs.work * 1024)} of"
                f" memory; those of new ones at least {size(FLOOR_WORK * 1024)}."
            ),
            remedy=(
                f"Run: fennox passphrase try --key-set {keys.name}. Give that passphrase, and it is"
                " locked again."
            ),
            since=parse_stamp(slot.since),
        )
        for slot in header_of(rows[0]).slots
        if slot.costs.weak
    ]


async def all_shown(session: AsyncSession) -> list[KeySetShown]:
    """The newest generation of each key set, by name."""
    newest = select(KeySet.id, func.max(KeySet.generation)).group_by(KeySet.id)
    rows = [
        await session.get_one(KeySet, (row[0], row[1]))
        for row in (await session.execute(newest)).all()
    ]
    return [await shown(session, row) for row in sorted(rows, key=lambda row: row.name)]


async def of_store(session: AsyncSession, store: StoreRow) -> KeySet:
    return await session.get_one(KeySet, (store.key_set, store.generation))
