"""Making stores and their keys, and checking their places."""

from __future__ import annotations

import asyncio
import secrets
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login
from fennox.core.errors import BadInput, Conflict
from fennox.core.format import header as headers
from fennox.core.format.header import Header, NewKeys
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import CLASSIC, OpeningKey
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.format.slots import Slot
from fennox.core.names import object_name, printable
from fennox.core.words import first_few
from fennox.engine.backups import opened_store
from fennox.service.keys.passphrases import new_slot, unlock_slot
from fennox.service.machines.context import Context, named
from fennox.service.people import passwords
from fennox.service.stores.store_change import OF_THE_PLACE
from fennox.stores import addresses
from fennox.stores.base import Store
from fennox.stores.mounts import mount_of
from fennox.wire.stores import AdoptStore, NewStore

PROBE = "probe-"  # remains in a place with write but no delete permission


@dataclass(frozen=True)
class Made:
    """A new store, not yet in the catalogue; ``keys``: of a key set made with it."""

    row: StoreRow
    keys: KeySet | None


async def make(context: Context, wanted: NewStore) -> Made:
    """Make a store; the first of a key set creates its keys, another one proves that it may use
    them.
    """
    async with context.session() as session:
        row = await new_row(session, wanted)
        login = await session.get(Login, row.login_id) if row.login_id else None
        sweep = await session.get(Login, row.sweep_login_id) if row.sweep_login_id else login
        known = await _known_keys(context, session, wanted.key_set)
    if known is not None and wanted.suite not in (None, known.header.suite):
        raise Conflict(
            f"The key set {known.name} seals by {known.header.suite}, in all of its stores.",
            "Leave out the suite, or change it for all of them with `fennox store rekey`.",
            field="suite",
        )
    store, remover = (
        context.stores.far_side(row.address, login, row.key),
        context.stores.far_side(row.address, sweep, row.key),
    )
    try:
        await _must_be_writable(store, remover)
        if not wanted.beside:
            await _must_be_empty(store)
        return await _made(context, wanted, store, row, known)
    finally:
        await store.close()
        await remover.close()


async def enter(session: AsyncSession, made: Made, wanted: NewStore) -> StoreRow:
    """Enter a new store into the catalogue."""
    await new_row(session, wanted)  # raises if another one was added meanwhile
    if made.keys is not None:
        named_so = select(KeySet.id).where(KeySet.name == made.keys.name)
        if (await session.execute(named_so)).first() is not None:
            raise Conflict(
                f"The key set {made.keys.name} was made meanwhile.",
                "Empty the folder, and add it again.",
            )
        session.add(made.keys)
    session.add(made.row)
    return made.row


async def new_row(session: AsyncSession, wanted: NewStore | AdoptStore) -> StoreRow:
    """A store's future place and login; its keys are filled in once it is made or opened."""
    address = str(addresses.parse(wanted.address))
    taken = select(StoreRow).where((StoreRow.name == wanted.name) | (StoreRow.address == address))
    if (other := (await session.execute(taken)).scalars().first()) is not None:
        raise Conflict(
            f"The store {other.name} at {other.address} is already there.",
            "Choose another name or folder.",
        )
    login = await named(session, Login, wanted.login) if wanted.login else None
    sweep = await named(session, Login, wanted.sweep_login) if wanted.sweep_login else None
    key = wanted.key
    if address.startswith("/"):
        mount = await asyncio.to_thread(mount_of, Path(address))
        key = mount.identity if mount else None
    return StoreRow(
        name=wanted.name,
        address=address,
        login_id=login.id if login else None,
        key=key,
        site=wanted.site,
        sweep_login_id=sweep.id if sweep else None,
    )


async def _made(
    context: Context, wanted: NewStore, store: Store, row: StoreRow, known: _KnownKeys | None
) -> Made:
    _must_not_be_inside(store)
    passphrase = wanted.passphrase.get_secret_value() if wanted.passphrase else None
    made: KeySet | None = None
    if known is None:
        keys, slots, made = await _new_keys(context, wanted, passphrase)
        sealed = None
    else:
        keys, slots, sealed = await _proved(known, passphrase)
    vault = await opened_store.create(
        store,
        keys,
        sweeper=context.service_id,
        slots=slots,
        now=context.now,
        plain_names=wanted.plain_names,
        sealed_secret=sealed,
    )
    data = headers.encode(vault.header)
    row.id = vault.id
    row.key_set, row.generation = keys.secret.key_set, keys.secret.generation
    row.header, row.header_digest = data.decode(), blake2b_256(data)
    row.created = context.now()
    return Made(row, made)


async def _must_be_writable(store: Store, remover: Store) -> None:
    """Check for a missing, read-only or full folder before making anything."""
    name = object_name(f"{PROBE}{secrets.token_hex(6)}")
    await store.put(name, b"x" * 65536)
    await remover.delete(name)


async def _must_be_empty(store: Store) -> None:
    """Warn about other files: a wrong folder is the likeliest mistake, and files beside a store are
    rarely intended. An existing store is reported separately.
    """
    entries = [entry.name for entry in await store.entries()]
    there = sorted(
        name for name in entries if name not in OF_THE_PLACE and not name.startswith(PROBE)
    )
    if there and "header" not in there:
        raise Conflict(
            f"{store.address} is not empty: it holds {first_few([*map(printable, there)], 3)}.",
            "Choose an empty folder, or say that the store is to lie beside all that: --beside",
            field="beside",
        )


def _must_not_be_inside(store: Store) -> None:
    """Reject a store inside another one, which would be swept with it."""
    above = addresses.parse(store.address)
    while above.scheme == "file" and above.path not in ("", "/"):
        above = above.at(above.path.rsplit("/", 1)[0])
        if Path(above.path, "header").is_dir() and Path(above.path, "rescue.py").is_file():
            raise Conflict(
                f"{store.address} lies inside the store {above.path}.",
                "Choose a folder outside of it.",
            )


async def _new_keys(
    context: Context, wanted: NewStore, passphrase: str | None
) -> tuple[NewKeys, list[Slot], KeySet]:
    if passphrase is None:
        raise BadInput(
            "The first store of a key set needs a passphrase.",
            "Give one with --passphrase-file.",
            field="passphrase",
        )
    complaint = passwords.strength_complaint(passphrase, ["fennox", wanted.name])
    if complaint is not None:
        raise BadInput(
            f"The passphrase is too weak. {complaint}",
            "Use five or more unrelated words.",
            field="passphrase",
        )
    keys = headers.new_keys(secrets.token_hex(16), 1, wanted.suite or CLASSIC, secrets.token_bytes)
    slot = await new_slot(context, keys, passphrase, wanted.label)
    place = f"key_sets|{keys.secret.key_set}|1"
    kept = wanted.custody == "kept"
    made = KeySet(
        id=keys.secret.key_set,
        generation=1,
        name=wanted.key_set,
        custody=wanted.custody,
        suite=keys.opening.suite,
        sealed_write_secret=context.keyfile.seal(keys.secret.raw, f"{place}|write secret"),
        sealed_opening_key=(
            context.keyfile.seal(keys.opening.raw, f"{place}|opening key") if kept else None
        ),
        created=context.now(),
    )
    return keys, [slot], made


@dataclass(frozen=True)
class _KnownKeys:
    """A key set that already has stores. ``opening`` is None in custody apart."""

    name: str
    header: Header
    opening: OpeningKey | None
    secret: WriteSecret


async def _known_keys(context: Context, session: AsyncSession, name: str) -> _KnownKeys | None:
    known = select(KeySet).where(KeySet.name == name).order_by(KeySet.generation.desc()).limit(1)
    row = (await session.execute(known)).scalar_one_or_none()
    if row is None:
        return None
    first = (
        await session.execute(select(StoreRow).where(StoreRow.key_set == row.id).limit(1))
    ).scalar_one()
    opening = await context.stores.kept_opening_key(session, first)
    header = headers.decode(first.header.encode())
    return _KnownKeys(row.name, header, opening, await context.stores.write_secret(session, first))


async def _proved(known: _KnownKeys, passphrase: str | None) -> tuple[NewKeys, list[Slot], str]:
    """Another store of a set: its header must be signed with the opening key, so custody ``apart``
    needs the passphrase.
    """
    opening = known.opening
    if passphrase is not None:
        _, opening = await unlock_slot(known.header, passphrase)
    if opening is None:
        raise BadInput(
            f"The key set {known.name} is kept apart; a further store needs its passphrase.",
            "Give it with --passphrase-file.",
            field="passphrase",
        )
    return NewKeys(opening, known.secret), list(known.header.slots), known.header.write_secret
