"""Passphrases of key sets: trying, adding and withdrawing them, and the cost of guessing."""

from __future__ import annotations

import secrets
import time
from dataclasses import dataclass
from functools import cache
from typing import Any

import structlog
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.stores import KeySet, StoreRow, Trial
from fennox.core.errors import BadInput, Conflict, NotFound, PassphraseNeeded, WrongPassphrase
from fennox.core.format import header as headers
from fennox.core.format.header import Header, NewKeys
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.slots import (
    FLOOR_WORK,
    MAX_PASSES,
    MAX_SLOTS,
    Costs,
    Passphrase,
    Slot,
    derived,
)
from fennox.core.time import stamp
from fennox.service.foundation.hashing import hashed
from fennox.service.keys.key_sets import (
    earlier_keys,
    header_of,
    key_set_named,
    pin_slots,
    stores_of,
    write_pinned,
)
from fennox.service.machines.context import Context
from fennox.service.people import passwords

log: Any = structlog.get_logger()

_A_GUESS = 1.0  # target duration in seconds of one try on this machine
_WEAK = Costs(memory=64, passes=1, lanes=1)


async def open_with(context: Context, name: str, passphrase: str | None, by: str) -> OpeningKey:
    """The opening key, from a passphrase or, in custody kept, from the service."""
    async with context.session() as session:
        keys = await key_set_named(session, name)
        rows = await stores_of(session, keys)
        if not rows:
            raise NotFound(f"No store uses the key set {keys.name}.", "Add or adopt one.")
        held = (
            await context.stores.kept_opening_key(session, rows[0]) if passphrase is None else None
        )
    if passphrase is not None:
        slot, opening = await unlock_slot(header_of(rows[0]), passphrase)
        async with context.session() as session:
            await session.merge(Trial(key_set=keys.id, slot=slot.id, at=context.now(), by=by))
        if slot.costs.weak and not context.settings.weak_slots:
            await _lock_anew(context, name, opening, slot, passphrase)
        return opening
    if held is None:
        raise PassphraseNeeded(
            f"The key set {keys.name} is kept apart from the service.", "Give its passphrase."
        )
    return held


async def _lock_anew(
    context: Context, name: str, opening: OpeningKey, weak: Slot, passphrase: str
) -> None:
    """Raise the cost of guessing a passphrase. Only possible now, because it was just typed."""
    async with context.session() as session:
        keys = await key_set_named(session, name)
        first = (await stores_of(session, keys))[0]
        pair = NewKeys(opening, await context.stores.write_secret(session, first))
        earlier = [
            (row.generation, NewKeys(key, context.stores.write_secret_of(row)))
            for row, key in await earlier_keys(session, keys, opening)
            if any(slot.label == weak.label for slot in row.slots or [])
        ]
    strong = await new_slot(context, pair, passphrase, weak.label, replaced=weak)
    again = {
        generation: await new_slot(context, older, passphrase, weak.label)
        for generation, older in earlier
    }
    async with context.session() as session:
        keys = await key_set_named(session, name)
        rows = await stores_of(session, keys)
        if rows[0].header_digest != first.header_digest:
            # the passphrases changed meanwhile; done the next time it is typed
            return
        for row, _ in await earlier_keys(session, keys, opening):
            if row.generation in again:
                kept = [slot for slot in row.slots or [] if slot.label != weak.label]
                row.slots = [*kept, again[row.generation]]
        await pin_slots(
            context,
            session,
            rows,
            opening,
            lambda old: [strong if slot.id == weak.id else slot for slot in old],
        )
    away = await write_pinned(context, rows, opening)
    log.info(
        "passphrase locked again",
        key_set=name,
        label=weak.label,
        costs=strong.costs.model_dump(),
        away=away,
    )


async def unlock_slot(header: Header, passphrase: str) -> tuple[Slot, OpeningKey]:
    return await hashed(lambda: header.unlock_slot(Passphrase(passphrase)))


async def must_be_new(header: Header, passphrase: str) -> None:
    """Reject a passphrase that already opens the key set."""
    try:
        await unlock_slot(header, passphrase)
    except WrongPassphrase:
        return
    raise Conflict("This passphrase opens the key set already.", "Choose another one.", field="new")


def must_be_strong(new: str, keys: KeySet, label: str) -> None:
    complaint = passwords.strength_complaint(new, ["fennox", keys.name, label])
    if complaint is not None:
        raise BadInput(
            f"The passphrase is too weak. {complaint}",
            "Use five or more unrelated words.",
            field="new",
        )


@dataclass(frozen=True)
class FurtherSlot:
    """A new slot for a key set at a certain version, and for its earlier generations."""

    slot: Slot
    earlier: dict[int, Slot]
    header_digest: str


async def further_slot(
    context: Context, name: str, opening: OpeningKey, *, label: str, new: str
) -> FurtherSlot:
    """Prepare another passphrase; hashing takes seconds and happens outside any session."""
    async with context.session() as session:
        keys = await key_set_named(session, name)
        must_be_strong(new, keys, label)
        rows = await stores_of(session, keys)
        header = header_of(rows[0])
        if any(slot.label == label for slot in header.slots):
            raise Conflict(
                f"There is a passphrase labelled {label} already.",
                "Choose another label.",
                field="label",
            )
        if len(header.slots) >= MAX_SLOTS:
            raise Conflict(f"A key set has at most {MAX_SLOTS} passphrases.", "Withdraw one first.")
        pair = NewKeys(opening, await context.stores.write_secret(session, rows[0]))
        before = [
            (earlier.generation, NewKeys(key, context.stores.write_secret_of(earlier)))
            for earlier, key in await earlier_keys(session, keys, opening)
            if earlier.slots is not None
        ]
    await must_be_new(header, new)
    slot = await new_slot(context, pair, new, label)
    again = {
        generation: await new_slot(context, earlier, new, label) for generation, earlier in before
    }
    return FurtherSlot(slot, again, rows[0].header_digest)


async def add_passphrase(
    context: Context, session: AsyncSession, keys: KeySet, opening: OpeningKey, further: FurtherSlot
) -> list[StoreRow]:
    rows = await stores_of(session, keys)
    if rows[0].header_digest != further.header_digest:
        raise Conflict(
            "The passphrases of the key set were changed meanwhile.", "Look at them, and try again."
        )
    for earlier, _ in await earlier_keys(session, keys, opening):
        if earlier.generation in further.earlier:
            added = further.earlier[earlier.generation]
            earlier.slots = [*(earlier.slots or []), added]
    return await pin_slots(context, session, rows, opening, lambda old: [*old, further.slot])


async def withdraw_passphrase(
    context: Context, session: AsyncSession, keys: KeySet, opening: OpeningKey, which: str
) -> list[StoreRow]:
    rows = await stores_of(session, keys)
    slots = header_of(rows[0]).slots
    gone = next((slot for slot in slots if which in (slot.id, slot.label)), None)
    if gone is None:
        raise NotFound(
            f"There is no passphrase {which}.", "`fennox passphrase list` shows those there are."
        )
    if len(slots) == 1:
        raise Conflict(
            "It is the only passphrase of the key set.", "Add and try another one first."
        )
    for earlier, _ in await earlier_keys(session, keys, opening):
        earlier.slots = [
            slot for slot in earlier.slots or [] if slot.label != gone.label
        ] or earlier.slots
    return await pin_slots(
        context, session, rows, opening, lambda old: [slot for slot in old if slot.id != gone.id]
    )


async def new_slot(
    context: Context, pair: NewKeys, passphrase: str, label: str, *, replaced: Slot | None = None
) -> Slot:
    """Lock a generation's opening key under a passphrase, with a cost of about a second on this
    machine.
    """
    settings = context.settings
    since = replaced.since if replaced else stamp(context.now())

    def made() -> Slot:
        costs = _WEAK if settings.weak_slots else costs_for(_A_GUESS, settings.argon_memory_kib)
        return headers.new_slot(
            pair,
            passphrase,
            label=label,
            since=since,
            costs=costs,
            random=secrets.token_bytes,
            slot_id=replaced.id if replaced else None,
        )

    return await hashed(made)


@cache
def costs_for(seconds: float, memory: int, lanes: int = 2) -> Costs:
    """Costs for the target duration on this machine, never below the minimum. ``memory`` in KiB.
    Measured once per process, in less than a second.
    """
    one = Costs(memory=memory, passes=1, lanes=lanes)
    derived(b"", bytes(16), one)  # the first run also pays for memory allocation
    started = time.perf_counter()
    derived(b"", bytes(16), one)
    passes = int(seconds / (time.perf_counter() - started))
    least = -(-FLOOR_WORK // memory)
    return Costs(memory=memory, passes=min(MAX_PASSES, max(least, passes)), lanes=lanes)
