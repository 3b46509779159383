"""Making and opening a store by its headers (store-format §3)."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable, Mapping
from importlib.resources import files

from fennox.core.errors import (
    Conflict,
    Damaged,
    StoreUnusable,
)
from fennox.core.format import header as headers
from fennox.core.format.header import Header, NewKeys
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import CLASSIC, OpeningKey, SuiteName
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.format.slots import Slot
from fennox.core.names import ObjectName
from fennox.core.time import stamp
from fennox.engine.backups.vault import README_NAME, RESCUE_NAME, Now, Vault
from fennox.stores.base import Store


def rescue_source() -> bytes:
    """The offline reader that is copied into every store."""
    return files("fennox").joinpath("rescue.py").read_bytes()


def readme(store_id: str, suite: SuiteName) -> bytes:
    packages = (
        "apt install python3-cryptography python3-argon2 python3-zstandard"
        if suite == CLASSIC
        else (
            "apt install python3-venv; python3 -m venv reader; reader/bin/pip install"
            " 'cryptography>=48' argon2-cffi zstandard\n             (the recovery kit has them),"
            " and reader/bin/python in the place of python3 below"
        )
    )
    return (
        "This folder is a store of Fennox: configuration backups of servers and appliances,"
        " encrypted.\n\nYOU NEED  1. this folder (a copy will do)\n          2. a passphrase of"
        " it\n          3. any machine with Python 3.11 or newer and three packages; on Debian"
        f" 12:\n             {packages}\nYou need neither Fennox nor its database.\n\nCompare the"
        " SHA-256 of rescue.py with the one on the recovery sheet before you run it:\n            "
        " sha256sum rescue.py\n\nTO SEE WHAT IS HERE    python3 rescue.py list .\nTO CHECK IT     "
        "       python3 rescue.py check .\nTO GET A BACKUP OUT    python3 rescue.py extract ."
        " BACKUP some/empty/folder\nTO READ THE STEPS      python3 rescue.py steps ."
        " BACKUP\n\nsystems/  one folder a system, one .fxr file a backup; the name tells when it"
        " was taken\npacks/    the content; `b2sum -l 256 FILE` prints the file's own name if it"
        " is whole\nheader/   the locked keys; sweep/ what was removed and why\n\nDo not rename,"
        f" edit or delete anything here. Store {store_id}.\n"
    ).encode()


async def renew_reader(vault: Vault) -> None:
    """Rewrite reader and readme if they are outdated or made for older keys."""
    for name, data in (
        (RESCUE_NAME, rescue_source()),
        (README_NAME, readme(vault.id, vault.header.suite)),
    ):
        if await vault.store.stat(name) is not None:
            if await vault.store.get(name) == data:
                continue
            await vault.store.delete(name)
        await vault.store.put(name, data)


async def create(
    store: Store,
    keys: NewKeys,
    *,
    sweeper: str,
    slots: list[Slot],
    now: Now,
    plain_names: bool = True,
    sealed_secret: str | None = None,
    random: Callable[[int], bytes] = secrets.token_bytes,
) -> Vault:
    """Make a store in an empty place: reader and readme first, the header last."""
    async for found in store.list(""):
        if found.name.startswith(("header/", "systems/", "packs/")):
            raise Conflict(
                f"{store.address} already holds a store ({found.name}).",
                "Adopt it, or choose an empty folder.",
            )
    header = headers.new_header(
        keys,
        store=random(16).hex(),
        written=stamp(now()),
        sweeper=sweeper,
        slots=slots,
        plain_names=plain_names,
        sealed_secret=sealed_secret,
    )
    for name, data in (
        (RESCUE_NAME, rescue_source()),
        (README_NAME, readme(header.store, header.suite)),
    ):
        if await store.stat(name) is None:
            await store.put(name, data)
    await store.put(headers.name(header), headers.encode(header))
    openings = {header.generation: keys.opening}
    return Vault(store, header, {header.generation: keys.secret}, now, openings, random=random)


async def read_headers(store: Store) -> list[bytes]:
    found = [item.name async for item in store.list("header/") if item.size <= headers.MAX_HEADER]
    if not found:
        raise StoreUnusable(f"{store.address} holds no store of Fennox.", "Check the address.")
    return [await store.get(name) for name in found]


async def open_with_passphrase(store: Store, passphrase: str, now: Now) -> Vault:
    """Open a store from nothing but its bytes and a passphrase, with all generations the passphrase
    opens.
    """
    candidates = await read_headers(store)
    opened = await asyncio.to_thread(headers.unlock_all, candidates, passphrase)
    newest = opened[0][0]
    held = {header.generation: header.write_secret_with(opening) for header, opening in opened}
    return Vault(
        store, newest, held, now, {header.generation: opening for header, opening in opened}
    )


async def open_pinned(
    store: Store,
    *,
    pinned: bytes,
    held: Mapping[int, WriteSecret],
    opening: OpeningKey | None,
    now: Now,
    chain: Mapping[int, bytes] | None = None,
    looked: bool = False,
) -> Vault:
    """Open a store with the keys the service holds; a header the service did not write is an error
    (§3.3). If the store lacks the pinned header, it was signed while the store was away, or
    somebody set the store back: if the present header is ours and older, the pinned one is written.
    ``looked``: this was checked just now.
    """
    mine = headers.decode(pinned)
    if not looked:
        await _look_at_headers(store, mine, pinned, held)
    vault = Vault(store, mine, held, now, chain=chain or {})
    if opening is not None:
        vault.unlock(opening)
    return vault


async def _look_at_headers(
    store: Store, mine: Header, pinned: bytes, held: Mapping[int, WriteSecret]
) -> None:
    candidates = await read_headers(store)
    newest = headers.ranked(candidates)[0]
    if (newest.generation, newest.revision) > (mine.generation, mine.revision):
        raise _not_ours(store)
    secret = held[mine.generation]
    mine.check_under(secret)
    if blake2b_256(pinned) not in {blake2b_256(data) for data in candidates}:
        same = (newest.generation, newest.revision) == (mine.generation, mine.revision)
        if newest.store != mine.store or same:
            raise _not_ours(store)
        try:
            newest.check_under(held.get(newest.generation, secret))
        except Damaged as error:
            raise _not_ours(store) from error
        await store.put(headers.name(mine), pinned)


def _not_ours(store: Store) -> StoreUnusable:
    return StoreUnusable(
        f"The header in {store.address} is not the one this service wrote.",
        "Somebody wrote to the store. Compare it with the recovery sheet before you trust it"
        " again.",
    )


async def forget_old_headers(vault: Vault, keep: int = 3) -> None:
    """Remove headers older than the last ``keep`` of this generation, and those that a withdrawn
    passphrase opens.

    All headers of a generation lock the same opening key: an older one beside the newest would let
    a passphrase that was withdrawn open also what is written later (§3.3).
    """
    # a slot locked again keeps its id
    current = {slot.locked for slot in vault.header.slots}
    found: list[tuple[int, ObjectName]] = []
    withdrawn: list[ObjectName] = []
    async for item in vault.store.list("header/"):
        try:
            header = headers.decode(await vault.store.get(item.name))
        except Damaged:
            continue  # the scrub's to name and heal
        if header.generation == vault.header.generation:
            found.append((header.revision, item.name))
            if {slot.locked for slot in header.slots} - current and _is_ours(vault, header):
                withdrawn.append(item.name)
    names = [name for _, name in sorted(found)]
    if headers.name(vault.header) not in names:
        return  # it does not exist yet, and only the others open the store
    for name in dict.fromkeys([*names[:-keep], *withdrawn]):
        await vault.store.delete(name)


def _is_ours(vault: Vault, header: Header) -> bool:
    """Whether a holder of the write secret signed it. The scrub reports headers by anybody else."""
    try:
        header.check_under(vault.secret_of(header.generation))
    except Damaged:
        return False
    return True


async def renew_slots(vault: Vault, generation: int, slots: list[Slot]) -> None:
    """Lock an earlier generation under other passphrases, and remove its headers with the old ones
    (§3.7).
    """
    found: dict[ObjectName, Header] = {}
    async for item in vault.store.list("header/"):
        try:
            header = headers.decode(await vault.store.get(item.name))
            if header.generation == generation:
                header.check_under(vault.secret_of(generation))
                found[item.name] = header
        except Damaged:
            continue  # the scrub's to name and heal
    if not found:
        keys = NewKeys(vault.opening_key(generation), vault.secret_of(generation))
        made = headers.new_header(
            keys,
            store=vault.id,
            written=stamp(vault.now()),
            slots=slots,
            sweeper=vault.header.sweeper,
            plain_names=vault.header.plain_names,
        )
        await vault.store.put(headers.name(made), headers.encode(made))
        return
    newest = max(found.values(), key=lambda header: header.revision)
    if newest.slots != slots:
        changes = {"slots": slots, "revision": newest.revision + 1, "written": stamp(vault.now())}
        newest = newest.model_copy(update=changes).signed(
            vault.secret_of(generation), vault.opening_key(generation)
        )
        await vault.store.put(headers.name(newest), headers.encode(newest))
    for name in found:
        if name != headers.name(newest):
            await vault.store.delete(name)
