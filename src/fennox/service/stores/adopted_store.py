"""Adopting a store: opened with its passphrase and entered with its keys."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login
from fennox.core.errors import Conflict
from fennox.core.format import generations
from fennox.core.format import header as headers
from fennox.core.format.primitives.digest import blake2b_256
from fennox.engine.backups import opened_store
from fennox.engine.backups.vault import Vault
from fennox.service.machines.context import Context
from fennox.service.stores import store_making
from fennox.wire.stores import AdoptStore


async def open_store(context: Context, wanted: AdoptStore) -> Vault:
    """Open a store with its passphrase; keeps nothing yet."""
    async with context.session() as session:
        row = await store_making.new_row(session, wanted)
        login = await session.get(Login, row.login_id) if row.login_id else None
    store = context.stores.far_side(row.address, login, row.key)
    try:
        return await opened_store.open_with_passphrase(
            store, wanted.passphrase.get_secret_value(), context.now
        )
    finally:
        await store.close()


async def adopt_store(
    context: Context, session: AsyncSession, wanted: AdoptStore, vault: Vault
) -> StoreRow:
    """Pin the header and keys of an opened store; the following run enters its backups."""
    row = await store_making.new_row(session, wanted)
    if (await session.get(StoreRow, vault.id)) is not None:
        raise Conflict(
            "This store is here already, under another address.", "Remove that one first."
        )
    header = vault.header
    await _keep_keys(context, session, vault, wanted)
    data = headers.encode(header)
    row.id, row.key_set, row.generation = vault.id, header.key_set, header.generation
    row.header, row.header_digest = data.decode(), blake2b_256(data)
    row.created = context.now()
    session.add(row)
    return row


async def _keep_keys(
    context: Context, session: AsyncSession, vault: Vault, wanted: AdoptStore
) -> None:
    header = vault.header
    if await session.get(KeySet, (header.key_set, header.generation)) is not None:
        return
    name = wanted.key_set
    if (await session.execute(select(KeySet.id).where(KeySet.name == name))).first() is not None:
        raise Conflict(
            f"There is another key set {name} already.",
            "Give this one another name with --key-set.",
        )
    for generation, secret in vault.held.items():
        place = f"key_sets|{header.key_set}|{generation}"
        opening, before = vault.openings[generation], vault.openings.get(generation - 1)
        seal_key = opening.seal_key()
        kept = wanted.custody == "kept" and generation == header.generation
        session.add(
            KeySet(
                id=header.key_set,
                generation=generation,
                name=name,
                custody=wanted.custody,
                suite=opening.suite,
                sealed_write_secret=context.keyfile.seal(secret.raw, f"{place}|write secret"),
                sealed_opening_key=(
                    context.keyfile.seal(opening.raw, f"{place}|opening key") if kept else None
                ),
                previous_opening_key=(
                    generations.seal_previous(before, seal_key, header.key_set, generation)
                    if before
                    else None
                ),
                created=context.now(),
            )
        )
    await session.flush()
