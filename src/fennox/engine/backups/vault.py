"""A store with its keys: making one, opening one, and the small objects in it (headers, records,
notes).
"""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from importlib.resources import files

from fennox.core.errors import (
    Conflict,
    Damaged,
    FennoxError,
    NoRoom,
    NotFound,
    PassphraseNeeded,
    StoreUnusable,
)
from fennox.core.format import anchors, notes, records, sweeps
from fennox.core.format import header as headers
from fennox.core.format.generations import all_openings
from fennox.core.format.header import Header, NewKeys
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import CLASSIC, OpeningKey, SuiteName
from fennox.core.format.primitives.secret import SALT_LENGTH, WriteSecret
from fennox.core.format.slots import Slot
from fennox.core.names import ObjectName, object_name
from fennox.core.time import stamp
from fennox.stores.base import Store

README_NAME = object_name("READ-ME-FIRST.txt")
RESCUE_NAME = object_name("rescue.py")
RESERVE_NAME = object_name("reserve.bin")  # room that is given up when a full store must be swept
_RESERVE = 256 * 1024  # bytes

Now = Callable[[], datetime]


@dataclass
class Vault:
    """A store, its newest header, and the keys held for it, by generation.

    ``openings`` is empty in custody ``apart`` until :meth:`unlock`. ``chain``: as for
    ``generations.all_openings``.
    """

    store: Store
    header: Header
    held: Mapping[int, WriteSecret]
    now: Now
    openings: Mapping[int, OpeningKey] = field(default_factory=dict)
    chain: Mapping[int, bytes] = field(default_factory=dict)
    random: Callable[[int], bytes] = field(default=secrets.token_bytes)

    @property
    def id(self) -> str:
        return self.header.store

    @property
    def secret(self) -> WriteSecret:
        return self.held[self.header.generation]

    def secret_of(self, generation: int) -> WriteSecret:
        try:
            return self.held[generation]
        except KeyError:
            raise Damaged(
                f"Something in the store is of key generation {generation}, which is not known"
                " here.",
                "Open the store with a passphrase of that generation.",
            ) from None

    @property
    def locked(self) -> bool:
        """Whether backups cannot be opened before somebody gave a passphrase."""
        return self.header.generation not in self.openings

    def unlock(self, opening: OpeningKey) -> None:
        """Use the opening key of the newest generation, and those of earlier ones that it leads
        to.
        """
        self.openings = all_openings(
            opening, self.header.key_set, self.header.generation, self.chain
        )

    def opening_key(self, generation: int | None = None) -> OpeningKey:
        """Of a generation; of the newest if none is named."""
        if self.locked:
            raise PassphraseNeeded(
                "The opening key of this store is kept apart from the service.",
                "Give the passphrase for this run.",
            )
        wanted = generation or self.header.generation
        try:
            return self.openings[wanted]
        except KeyError:
            raise PassphraseNeeded(
                f"The backup is of key generation {wanted}, which this passphrase does not open.",
                "Give a passphrase that was valid when it was taken.",
            ) from None

    def lock_end(self) -> datetime | None:
        """Until when what is written now is to be locked, in a store whose far side locks (§14)."""
        lock = self.store.lock
        return self.now() + lock if lock is not None else None

    async def put(self, name: ObjectName, data: bytes) -> None:
        """Write what a backup needs, locked where the store locks."""
        await self.store.put(name, data, retain_until=self.lock_end())

    def salt(self) -> bytes:
        return self.random(SALT_LENGTH)

    def record_name(self, reference: records.Reference) -> ObjectName:
        return records.name(reference, plain_names=self.header.plain_names)

    async def read_record(self, name: ObjectName) -> records.Record:
        data = await self.store.get(name)
        record = records.decode(data, self.secret_of(records.generation(data)), self.id)
        records.check_name(record, name, plain_names=self.header.plain_names)
        return record

    async def record_names(self, folder: str = "") -> list[ObjectName]:
        prefix = f"systems/{folder}/" if folder else "systems/"
        return [
            found.name async for found in self.store.list(prefix) if found.name.endswith(".fxr")
        ]

    async def record_of(self, backup: str, folder: str, time: str, name: str) -> records.Record:
        """As :meth:`find_record`, where what its name is made of is known too, so that the store
        need not be listed.
        """
        if self.header.plain_names:
            with suppress(NotFound):
                generation = self.header.generation
                return await self.read_record(
                    records.name_of(folder, time, name, backup, generation)
                )
        return await self.find_record(backup, folder)

    async def lost(self, record: ObjectName) -> bool:
        """Whether a record that was put here is gone though no sweep removed it; under another name
        it is not gone.
        """
        if await self.store.stat(record) is not None:
            return False
        short, folder = records.short_id(record), record.rsplit("/", 1)[0].removeprefix("systems/")
        if any(
            records.short_id(name) == short
            for name in await self.record_names(self._folder(folder))
        ):
            return False
        return short not in sweeps.swept_backups(await self.sweep_lists(whole=False))

    def _folder(self, folder: str) -> str:
        """Where records of a system are listed: everywhere, if names do not tell."""
        return folder if self.header.plain_names else ""

    async def find_record(self, backup: str, folder: str = "") -> records.Record:
        """The record of a backup, by its id or the beginning of it. ``folder``: of its system, if
        that is known.
        """
        inside = self._folder(folder)
        names = [
            name for name in await self.record_names(inside) if records.short_id(name) == backup[:8]
        ]
        found = [await self.read_record(name) for name in names]
        mine = [record for record in found if record.reference.backup.startswith(backup)]
        if mine:
            return max(mine, key=lambda record: record.reference.generation)
        raise Damaged(
            f"The record of backup {backup[:8]} is not in {self.store.address}.",
            "Try another copy.",
        )

    def _note(self, data: bytes) -> notes.Note:
        return notes.decode(data, self.secret_of(notes.generation(data)), self.id)

    async def notes_of(self, record: ObjectName) -> dict[ObjectName, notes.Note]:
        """The notes beside a record, by their object names."""
        prefix = record.removesuffix(".fxr") + "."
        found = {}
        async for item in self.store.list(record.rsplit("/", 1)[0] + "/"):
            # a name that goes on is a note of the same backup under another generation
            rest = item.name.removeprefix(prefix)
            if rest != item.name and rest.count(".") == 1 and rest.endswith(".fxn"):
                found[item.name] = self._note(await self.store.get(item.name))
        return found

    async def sweep_lists(
        self, *, whole: bool = True, known: dict[ObjectName, sweeps.Sweep] | None = None
    ) -> list[sweeps.Sweep]:
        """What sweeps wrote, oldest first. ``whole``: a list that cannot be read is an error, and
        not passed over.

        ``known``: lists that were read before, which are not read again, as none ever changes; it
        learns new ones.
        """
        known = {} if known is None else known
        found = []
        async for item in self.store.list("sweep/"):
            if not item.name.endswith(".fxc"):
                continue
            if item.name not in known:
                data = await self.store.get(item.name)
                try:
                    known[item.name] = sweeps.decode(
                        data, self.secret_of(sweeps.generation(data)), self.id
                    )
                except Damaged:
                    if whole:
                        raise
                    continue
            found.append(known[item.name])
        return sorted(found, key=lambda sweep: sweep.time)

    async def write_sweep(self, sweep: sweeps.Sweep) -> None:
        """Write a sweep list. In a store that is full the reserve is given up for it: without a
        list nothing may go.
        """
        name = sweeps.name(sweep.time, self.random(4).hex())
        data = sweeps.encode(sweep, self.secret, self.id, self.salt())
        try:
            await self.store.put(name, data)
        except NoRoom:
            if await self.store.stat(RESERVE_NAME) is None:
                raise
            await self.store.delete(RESERVE_NAME)
            await self.store.put(name, data)

    async def keep_reserve(self) -> None:
        """Hold some room back, where the far side has a limit that it tells, so that a full store
        can be swept.
        """
        if not self.store.abilities.space or await self.store.stat(RESERVE_NAME) is not None:
            return
        with suppress(NoRoom, Conflict):
            await self.store.put(RESERVE_NAME, self.random(_RESERVE))

    async def write_note(self, note: notes.Note, reference: records.Reference) -> ObjectName:
        name = notes.name(self.record_name(reference), self.random(4).hex())
        put = note.model_copy(update={"written": stamp(self.now())})
        await self.put(name, notes.encode(put, self.secret, self.id, self.salt()))
        return name

    async def write_anchors(self, told: anchors.Anchors) -> ObjectName:
        """Keep what another store holds, so that this one can tell if that is set back (§15)."""
        name = anchors.name(told, self.random(4).hex())
        await self.store.put(name, anchors.encode(told, self.secret, self.id, self.salt()))
        return name

    async def anchors_of(self, store: str) -> list[anchors.Anchors]:
        """What is kept here of another store, oldest first; what cannot be read is the scrub's to
        name.
        """
        found = []
        async for item in self.store.list("anchors/"):
            if item.name.startswith(f"anchors/{store[:8]}.") and item.name.endswith(".fxa"):
                data = await self.store.get(item.name)
                with suppress(Damaged):
                    found.append(
                        anchors.decode(data, self.secret_of(anchors.generation(data)), self.id)
                    )
        return sorted((one for one in found if one.store == store), key=lambda one: one.time)

    async def read_notes(self, folder: str) -> list[notes.Note]:
        found = []
        async for item in self.store.list(f"systems/{folder}/"):
            if item.name.endswith(".fxn"):
                found.append(self._note(await self.store.get(item.name)))
        return found

    async def condemned(
        self, known: dict[ObjectName, sweeps.Sweep] | None = None
    ) -> frozenset[str]:
        """Packs that takes treat as absent (store-format §11.2). ``known`` as for
        :meth:`sweep_lists`.

        A damaged list does not stop a take: the sweep, which could delete, stops at it, and a scrub
        removes it.
        """
        return sweeps.condemned_packs(await self.sweep_lists(whole=False, known=known))


def rescue_source() -> bytes:
    """The offline reader as it is copied into every store."""
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
    """Write reader and readme anew where they are not those of this version and of the store's
    newest keys.
    """
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
    """Open a store with the keys the service holds; a header it did not write stops everything
    (§3.3).

    A pinned header that the store lacks was signed while the store was away, or somebody set the
    store back: if what is there is ours and older, the pinned one is written. ``looked``: that was
    looked at just now.
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
    current = {
        slot.locked for slot in vault.header.slots
    }  # a slot that was locked anew has the same id
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
        return  # it is not there yet, and the others are all that opens the store
    for name in dict.fromkeys([*names[:-keep], *withdrawn]):
        await vault.store.delete(name)


def _is_ours(vault: Vault, header: Header) -> bool:
    """Whether a holder of the write secret signed it; of what somebody else put there the scrub
    tells.
    """
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


async def read_records(
    vault: Vault,
) -> tuple[list[records.Record], list[tuple[ObjectName, FennoxError]]]:
    """Every readable record, of all generations, and the names of those that cannot be read, with
    the reason.
    """
    good: list[records.Record] = []
    bad: list[tuple[ObjectName, FennoxError]] = []
    for name in await vault.record_names():
        try:
            good.append(await vault.read_record(name))
        except FennoxError as error:
            await raise_unless_damage(vault, error)
            bad.append((name, error))
    return good, bad


async def raise_unless_damage(vault: Vault, error: FennoxError) -> None:
    """Raise what kept an object from being read, unless that tells of the object: that the store is
    away does not.

    A far side that refuses or fails to read one object says so in the same words as one of which
    nothing can be read.
    """
    match error:
        case Damaged() | NotFound():
            return
        case StoreUnusable():
            with suppress(Damaged, NotFound):
                await vault.store.get(headers.name(vault.header))
        case _:
            raise error


async def list_backups(
    vault: Vault,
) -> tuple[list[records.Record], list[tuple[ObjectName, FennoxError]]]:
    """Every backup's record, oldest first, and the names of those that cannot be read, with the
    reason.
    """
    good, bad = await read_records(vault)
    newest = records.newest_generations(good)
    return (
        sorted(newest, key=lambda record: (record.reference.time, record.reference.sequence)),
        bad,
    )
