"""Making stores and their keys, testing them, and saying in words what is wrong with them."""

from __future__ import annotations

import asyncio
import os
import secrets
import time
from collections.abc import Awaitable, Callable

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import KeySet, StoreRow
from fennox.core.errors import BadInput, Conflict, FennoxError, StoreUnusable
from fennox.core.format import header as headers
from fennox.core.format.header import Costs, Header, NewKeys
from fennox.core.format.hpke import CLASSIC
from fennox.core.names import object_name
from fennox.core.time import stamp
from fennox.engine import vault as vaults
from fennox.service import signin
from fennox.service.context import Context
from fennox.stores.base import Span, Store
from fennox.wire.stores import NewStore, StoreCheck, StoreTest


async def add(context: Context, session: AsyncSession, wanted: NewStore) -> StoreRow:
    """Make a store; the first of a key set makes its keys, a further one proves that it may use them."""
    taken = await session.execute(
        select(StoreRow).where((StoreRow.name == wanted.name) | (StoreRow.address == wanted.address))
    )
    if (other := taken.scalars().first()) is not None:
        raise Conflict(f"The store {other.name} at {other.address} is already there.", "Choose another name or folder.")
    store = context.store_at(wanted.address)
    await _must_be_writable(store)
    passphrase = wanted.passphrase.get_secret_value() if wanted.passphrase else None
    known = await session.execute(select(KeySet).where(KeySet.name == wanted.key_set).order_by(KeySet.generation))
    keys_row = known.scalars().first()
    if keys_row is None:
        keys, slots, sealed = await _new_keys(context, session, wanted, passphrase)
    else:
        keys, slots, sealed = await _known_keys(context, session, keys_row, passphrase)
    vault = await vaults.create(
        store,
        keys,
        sweeper=context.service_id,
        slots=slots,
        now=context.now,
        plain_names=wanted.plain_names,
        sealed_secret=sealed,
    )
    data = headers.encode(vault.header)
    row = StoreRow(
        id=vault.id,
        name=wanted.name,
        address=wanted.address,
        key_set=keys.secret.key_set,
        generation=keys.secret.generation,
        header=data.decode(),
        header_digest=headers.digest(data),
        created=context.now(),
    )
    session.add(row)
    return row


async def _must_be_writable(store: Store) -> None:
    """A folder that is gone, read-only or full is found before anything is made."""
    name = object_name(f"probe-{secrets.token_hex(6)}")
    await store.put(name, b"x" * 65536)
    await store.delete(name)


async def _new_keys(
    context: Context, session: AsyncSession, wanted: NewStore, passphrase: str | None
) -> tuple[NewKeys, list[headers.Slot], str | None]:
    if passphrase is None:
        raise BadInput(
            "The first store of a key set needs a passphrase.", "Give one with --passphrase-file.", field="passphrase"
        )
    complaint = signin.strength_complaint(passphrase, ["fennox", wanted.name])
    if complaint is not None:
        raise BadInput(
            f"The passphrase is too weak. {complaint}", "Use five or more unrelated words.", field="passphrase"
        )
    keys = headers.new_keys(secrets.token_hex(16), 1, CLASSIC, secrets.token_bytes)
    costs = Costs(memory=context.settings.argon_memory_kib)
    slot = await asyncio.to_thread(
        lambda: headers.new_slot(
            keys, passphrase, label="first", since=stamp(context.now()), costs=costs, random=secrets.token_bytes
        )
    )
    place = f"key_sets|{keys.secret.key_set}|1"
    kept = wanted.custody == "kept"
    session.add(
        KeySet(
            id=keys.secret.key_set,
            generation=1,
            name=wanted.key_set,
            custody=wanted.custody,
            suite=keys.opening.suite,
            sealed_write_secret=context.keyfile.seal(keys.secret.raw, f"{place}|write secret"),
            sealed_opening_key=context.keyfile.seal(keys.opening.raw, f"{place}|opening key") if kept else None,
            created=context.now(),
        )
    )
    return keys, [slot], None


async def _known_keys(
    context: Context, session: AsyncSession, row: KeySet, passphrase: str | None
) -> tuple[NewKeys, list[headers.Slot], str | None]:
    """A further store: its header must be signed with the opening key, so the passphrase is needed in ``apart``."""
    others = await session.execute(select(StoreRow).where(StoreRow.key_set == row.id).limit(1))
    first = others.scalar_one()
    header: Header = headers.decode(first.header.encode())
    opening = await context.kept_opening_key(session, first)
    if passphrase is not None:
        opening = await asyncio.to_thread(header.unlock, passphrase)
    if opening is None:
        raise BadInput(
            f"The key set {row.name} is kept apart; a further store needs its passphrase.",
            "Give it with --passphrase-file.",
            field="passphrase",
        )
    return NewKeys(opening, await context.write_secret(session, first)), list(header.slots), header.write_secret


async def test(store: Store) -> StoreTest:
    """Prove a store by doing everything a backup and a sweep will do to it."""
    name = object_name(f"probe-{secrets.token_hex(6)}")
    data = os.urandom(1024 * 1024)
    checks: list[StoreCheck] = []

    async def check(title: str, act: Callable[[], Awaitable[str]]) -> bool:
        try:
            detail = await act()
        except FennoxError as error:
            checks.append(StoreCheck(title=title, passed=False, detail=str(error)))
            return False
        checks.append(StoreCheck(title=title, passed=True, detail=detail))
        return True

    async def listed() -> str:
        count = len([found async for found in store.list("")])
        return f"{count} objects"

    async def written() -> str:
        started = time.monotonic()
        await store.put(name, data)
        return f"{len(data) / (time.monotonic() - started) / 1e6:.0f} MB a second"

    async def read_back() -> str:
        if await store.get(name) != data or await store.get(name, Span(1000, 50)) != data[1000:1050]:
            raise StoreUnusable("What was read is not what was written.", "Do not trust this store.")
        return "whole and in ranges"

    async def not_overwritten() -> str:
        try:
            await store.put(name, b"other")
        except Conflict:
            if await store.get(name) == data:
                return "refused, as it must be"
        raise StoreUnusable("The store silently overwrites objects.", "Do not trust this store.")

    async def deleted() -> str:
        await store.delete(name)
        if await store.stat(name) is not None:
            raise StoreUnusable("An object is still there after it was deleted.", "Check the rights.")
        return "and it is gone"

    async def room() -> str:
        space = await store.space()
        return f"{space.free / 1e9:.1f} GB free of {space.total / 1e9:.1f} GB" if space else "not told"

    if await check("List what is there", listed) and await check("Write", written):
        await check("Read back", read_back)
        await check("Never overwrite", not_overwritten)
        await check("Delete", deleted)
        await check("Free space", room)
    return StoreTest(passed=all(item.passed for item in checks), checks=checks)


def warnings(row: StoreRow, stores: list[StoreRow], custody: str) -> list[str]:
    """What is doubtful about a store, in words."""
    found = []
    if len(stores) == 1:
        found.append("It is the only store: every backup has a single copy.")
    if custody == "kept":
        found.append("The service can open these backups; who takes over the service can too.")
    return found
