"""Making stores and their keys, testing them, and saying in words what is wrong with them."""

from __future__ import annotations

import asyncio
import os
import secrets
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from sqlalchemy import ColumnElement, delete, or_, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import (
    IS_ACTIVE,
    Backup,
    Copy,
    KeySet,
    Login,
    Routine,
    Run,
    StoreRow,
    System,
)
from fennox.core.errors import BadInput, Conflict, FennoxError, StoreUnusable
from fennox.core.format import header as headers
from fennox.core.format.header import Header, NewKeys
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import CLASSIC, OpeningKey
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.format.slots import Slot
from fennox.core.names import ObjectName, object_name, printable
from fennox.core.retention import ceiling
from fennox.engine.backups import vault as vaults
from fennox.links.base import Credential
from fennox.service.keys.passphrases import new_slot, unlock_slot
from fennox.service.machines.context import Context, named
from fennox.service.people import passwords
from fennox.service.systems import dependence
from fennox.stores import addresses
from fennox.stores.base import Span, Store
from fennox.stores.mounts import mount_of
from fennox.wire.stores import AdoptStore, NewStore, StoreChange, StoreCheck, StoreTest

_NAMED = 5  # systems that a warning names
_OF_THE_PLACE = ("lost+found", ".snapshot", ".snapshots")  # what file systems put there themselves
_PROBE = "probe-"  # of a place where one may write and not remove it stays
_CLOCKS_APART = 300  # seconds that a far side's clock may differ from ours


@dataclass(frozen=True)
class Made:
    """A store that was made, before the catalogue knows it; ``keys``: of a key set that was made
    with it.
    """

    row: StoreRow
    keys: KeySet | None


async def make(context: Context, wanted: NewStore) -> Made:
    """Make a store; the first of a key set makes its keys, a further one proves that it may use
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
        context.far_side(row.address, login, row.key),
        context.far_side(row.address, sweep, row.key),
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
    """Let the catalogue know a store that was made."""
    await new_row(session, wanted)  # which says so if another one was added meanwhile
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
    """Where a store is to be, and how it is reached; its keys are filled in when it was made or
    opened.
    """
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
    row.id = vault.id
    row.key_set, row.generation = keys.secret.key_set, keys.secret.generation
    row.header, row.header_digest = data.decode(), blake2b_256(data)
    row.created = context.now()
    return Made(row, made)


async def _must_be_writable(store: Store, remover: Store) -> None:
    """A folder that is gone, read-only or full is found before anything is made."""
    name = object_name(f"{_PROBE}{secrets.token_hex(6)}")
    await store.put(name, b"x" * 65536)
    await remover.delete(name)


async def _must_be_empty(store: Store) -> None:
    """A wrong folder is the likeliest slip of all, and what lies beside a store is seldom meant to
    be there.

    Whoever makes a store where one is already is told that by the store itself.
    """
    entries = [entry.name for entry in await store.entries()]
    there = sorted(
        name for name in entries if name not in _OF_THE_PLACE and not name.startswith(_PROBE)
    )
    if there and "header" not in there:
        more = f" and {len(there) - 3} more" if len(there) > 3 else ""
        raise Conflict(
            f"{store.address} is not empty: it holds {', '.join(map(printable, there[:3]))}{more}.",
            "Choose an empty folder, or say that the store is to lie beside all that: --beside",
            field="beside",
        )


def _must_not_be_inside(store: Store) -> None:
    """A store inside another one would be swept with it."""
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
    """A key set that has stores already. ``opening`` is None in custody apart."""

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
    opening = await context.kept_opening_key(session, first)
    header = headers.decode(first.header.encode())
    return _KnownKeys(row.name, header, opening, await context.write_secret(session, first))


async def _proved(known: _KnownKeys, passphrase: str | None) -> tuple[NewKeys, list[Slot], str]:
    """A further store: its header must be signed with the opening key, so the passphrase is needed
    in ``apart``.
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


async def test(store: Store, remover: Store, now: datetime) -> StoreTest:
    """Prove a store by doing everything a backup and a sweep will do to it.

    ``remover``: the same place by the login that removes, which may be the same.
    """
    name = object_name(f"{_PROBE}{secrets.token_hex(6)}")
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
        found = {item.name for item in await store.entries()}
        ours = {"header", "systems", "packs", "sweep", "READ-ME-FIRST.txt", "rescue.py"}
        strange = sorted(found - ours)
        more = f"; not of Fennox: {', '.join(strange[:5])}" + (
            " and more" if len(strange) > 5 else ""
        )
        objects = [item async for item in store.list("")]
        amount = sum(item.size for item in objects)
        return (
            f"{len(objects)} objects, {amount / 1e6:.1f} MB{more if strange else ', nothing else'}"
        )

    async def written() -> str:
        started = time.monotonic()
        await store.put(name, data)
        return f"{len(data) / (time.monotonic() - started) / 1e6:.0f} MB a second"

    async def read_back() -> str:
        started = time.monotonic()
        if await store.get(name) != data:
            raise StoreUnusable(
                "What was read is not what was written.", "Do not trust this store."
            )
        return f"{len(data) / (time.monotonic() - started) / 1e6:.0f} MB a second"

    async def in_ranges() -> str:
        if await store.get(name, Span(1000, 50)) != data[1000:1050]:
            raise StoreUnusable(
                "A range that was read is not what was written.", "Do not trust this store."
            )
        return "50 bytes from the middle"

    async def same_time() -> str:
        there = await store.stat(name)
        if there is None or there.modified is None:
            return "not told"
        apart = abs((there.modified - now).total_seconds())
        if apart > _CLOCKS_APART:
            raise StoreUnusable(
                f"The far side's clock is {apart / 3600:.1f} hours from ours.",
                "Set it right; ages would be wrong.",
            )
        return f"within {max(2, round(apart))} seconds of ours"

    async def not_overwritten() -> str:
        try:
            await store.put(name, b"other")
        except Conflict:
            if await store.get(name) == data:
                return "refused, as it must be"
        raise StoreUnusable("The store silently overwrites objects.", "Do not trust this store.")

    async def deleted() -> str:
        if remover is not store and not await _may_delete(store, name):
            await remover.delete(name)
            told = "refused to the login that takes, as it should be; the sweep's login can"
        else:
            await store.delete(name)
            told = "and it is gone; the login that takes can delete"
            told += (
                ": take that right from it, since the sweep has its own"
                if remover is not store
                else ""
            )
        if await store.stat(name) is not None:
            raise StoreUnusable(
                "An object is still there after it was deleted.", "Check the rights."
            )
        return told

    async def room() -> str:
        space = await store.space()
        return (
            f"{space.free / 1e9:.1f} GB free of {space.total / 1e9:.1f} GB" if space else "not told"
        )

    if (
        await check("Log in", store.landed)
        and await check("List what is there", listed)
        and await check("Write", written)
    ):
        await check("Read back", read_back)
        await check("Read a range", in_ranges)
        await check("Clock", same_time)
        await check("Never overwrite", not_overwritten)
        await check("Delete", deleted)
        await check("Free space", room)
    return StoreTest(passed=all(item.passed for item in checks), checks=checks)


async def _may_delete(store: Store, name: ObjectName) -> bool:
    try:
        await store.delete(name)
    except StoreUnusable:
        return False
    return True


async def change(session: AsyncSession, row: StoreRow, wanted: StoreChange) -> None:
    """Change how a store is reached; :func:`try_change` has tried it before."""
    if wanted.name is not None and wanted.name != row.name:
        other = await session.execute(select(StoreRow.id).where(StoreRow.name == wanted.name))
        if other.first() is not None:
            raise Conflict(
                f"There is a store {wanted.name} already.", "Choose another name.", field="name"
            )
        row.name = wanted.name
    if wanted.login is not None:
        row.login_id = (await named(session, Login, wanted.login)).id
    if wanted.sweep_login is not None:
        sweep = await named(session, Login, wanted.sweep_login) if wanted.sweep_login else None
        row.sweep_login_id = sweep.id if sweep else None
    if wanted.key is not None:
        row.key = wanted.key
    if wanted.site is not None:
        row.site = wanted.site
    if wanted.scrub_budget is not None:
        row.scrub_budget = wanted.scrub_budget
    if wanted.ceiling is not None:
        found = ceiling.parse(wanted.ceiling)
        row.ceiling, row.over_since = found.text if found else "", None
        none = {"let_go": False, "let_go_at": None}
        await session.execute(update(Copy).where(Copy.store_id == row.id).values(none))
    if _other_way(wanted):
        row.stopped_because = ""


def _other_way(wanted: StoreChange) -> bool:
    return wanted.login is not None or wanted.sweep_login is not None or wanted.key is not None


async def try_change(context: Context, name: str, wanted: StoreChange) -> None:
    """Try what is to be changed before it counts; nothing of it is kept yet."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        await change(session, row, wanted)
        await session.flush()
        doors = [await context.door(session, row, removing=removing) for removing in (False, True)]
        await session.rollback()
    if _other_way(wanted):
        for door in doors:
            await context.vault(door)
    found = ceiling.parse(wanted.ceiling) if wanted.ceiling is not None else None
    if (
        found is not None
        and found.share is not None
        and await (await context.store(doors[0])).space() is None
    ):
        raise BadInput(
            f"{name} does not tell how much room it has.",
            "Give a size, like 500 GB.",
            field="ceiling",
        )


async def remove(session: AsyncSession, row: StoreRow) -> int:
    """Forget a store. What lies in it stays there; backups that lie nowhere else leave the
    catalogue with it.
    """
    users = (await session.execute(select(Routine))).scalars().all()
    using = sorted(
        routine.name for routine in users if row.id in (routine.store_id, *routine.copy_to)
    )
    if using:
        raise Conflict(
            f"The routine {using[0]} sends backups to {row.name}.", "Give it another store first."
        )
    active = select(Run.id).where(Run.store_id == row.id, IS_ACTIVE)
    if (await session.execute(active)).first() is not None:
        raise Conflict(f"A run is using {row.name}.", "Wait for it, or stop it.")
    elsewhere = select(Copy.backup_id).where(Copy.store_id != row.id)
    here = select(Copy.backup_id).where(Copy.store_id == row.id)
    only = list((await session.execute(here.where(Copy.backup_id.not_in(elsewhere)))).scalars())
    await session.execute(delete(Copy).where(Copy.store_id == row.id))
    await session.execute(delete(Backup).where(Backup.id.in_(only)))
    await session.execute(update(Run).where(Run.store_id == row.id).values(store_id=None))
    await session.delete(row)
    await session.flush()
    if (
        await session.execute(select(StoreRow.id).where(StoreRow.key_set == row.key_set))
    ).first() is None:
        # with its last store a key set goes too; a store brings its keys along when it is adopted
        await session.execute(delete(KeySet).where(KeySet.id == row.key_set))
    return len(only)


async def warnings(
    context: Context, session: AsyncSession, row: StoreRow, custody: str
) -> list[str]:
    """What is doubtful about a store, in words."""
    found = []
    address = addresses.parse(row.address)
    stores = list((await session.execute(select(StoreRow))).scalars())
    login = await session.get(Login, row.login_id) if row.login_id else None
    if row.stopped_because:
        found.append(row.stopped_because)
    if address.plain:
        found.append(
            "The protocol is plain: whoever listens on the way reads the login. The backups stay"
            " sealed."
        )
    if len(stores) == 1:
        found.append("It is the only store: every backup has a single copy.")
    elif row.site and all(store.site == row.site for store in stores):
        found.append(f"Every store is at {row.site}: a fire there takes all copies.")
    if address.scheme == "file":
        mount = mount_of(Path(row.address))
        if mount is not None and mount.point == "/":
            found.append(
                "It lies on the system disk of the machine that runs Fennox, and is lost with it."
            )
    else:
        found += await _dependences(session, row)
    if login is not None:
        found += _weak_login(context.credential(login), login.name)
        found += await _shared_password(context, session, login)
    if custody == "kept":
        found.append("The service can open these backups; who takes over the service can too.")
    return found


async def _dependences(session: AsyncSession, row: StoreRow) -> list[str]:
    found = []
    host = dependence.host_of(row)
    places = [
        System.address.startswith(f"{form}:", autoescape=True) for form in (host, f"[{host}]")
    ]
    if same := await _some_names(session, or_(*places)):
        found.append(f"It lies on a protected system ({same}): both would be lost together.")
    elif row.site and (inside := await _some_names(session, System.site == row.site)):
        found.append(f"It is at the same site as {inside}.")
    if host and not dependence.is_number(host):
        found.append(
            f"It is reached by the name {host}: write its address down, in case the name service is"
            " lost too."
        )
    return found


async def _some_names(session: AsyncSession, fits: ColumnElement[bool]) -> str:
    """Of systems that fit: a few, and how many more there are."""
    named_there = (
        (await session.execute(select(System.name).where(fits).order_by(System.name)))
        .scalars()
        .all()
    )
    more = f" and {len(named_there) - _NAMED} more" if len(named_there) > _NAMED else ""
    return ", ".join(named_there[:_NAMED]) + more


async def _shared_password(context: Context, session: AsyncSession, login: Login) -> list[str]:
    mine = context.credential(login).password
    others = (
        await session.execute(select(Login).where(Login.id != login.id).order_by(Login.name))
    ).scalars()
    same = [other.name for other in others if mine and context.credential(other).password == mine]
    return (
        [
            f"The login {login.name} has the same password as {', '.join(same)}: whoever has one"
            " has all."
        ]
        if same
        else []
    )


def _weak_login(credential: Credential, name: str) -> list[str]:
    password = credential.password
    if password is None:
        return []
    if password.lower() == credential.account.lower():
        return [f"The login {name} has its account's name as its password: change it."]
    if passwords.strength_complaint(password, [credential.account, "fennox", "backup"]) is not None:
        return [f"The password of the login {name} is easily guessed: change it."]
    return []
