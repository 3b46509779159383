"""New keys after a leak: a new generation of a key set, with its backups resealed. Withdrawing a
passphrase does not revoke the key from somebody who copied an old header. So a new key pair and
write secret are made, every store of the set gets a header of the new generation, and each store's
run reseals its backups beside the old records, which the next sweep removes. Generations share
nothing.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from sqlalchemy import delete
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import KeySet, StoreRow, Trial
from fennox.core.errors import Conflict, Damaged, NotFound
from fennox.core.facts.run_results import RekeyResult
from fennox.core.format import generations
from fennox.core.format import header as headers
from fennox.core.format.header import NewKeys
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import OpeningKey, SuiteName
from fennox.core.format.records import Previous, Record
from fennox.core.format.slots import Slot
from fennox.core.time import stamp
from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding, copy
from fennox.service.keys.key_sets import (
    earlier_keys,
    earlier_of,
    header_of,
    key_set_named,
    renew_earlier,
    stores_of,
)
from fennox.service.keys.passphrase_relay import wait_for_key
from fennox.service.keys.passphrases import must_be_new, must_be_strong, new_slot
from fennox.service.machines.context import Context
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease


@dataclass(frozen=True)
class NewGeneration:
    """A new generation of a key set, locked together with the earlier ones under a new
    passphrase.
    """

    pair: NewKeys
    slot: Slot
    earlier: dict[int, Slot]


async def new_generation(
    context: Context,
    name: str,
    opening: OpeningKey,
    *,
    new: str,
    label: str,
    suite: SuiteName | None = None,
) -> NewGeneration:
    """Make the keys; hashing takes seconds and happens outside any session. ``suite`` None: as
    before.
    """
    async with context.session() as session:
        keys = await key_set_named(session, name)
        must_be_strong(new, keys, label)
        rows = await stores_of(session, keys)
        every = [(keys, opening), *await earlier_keys(session, keys, opening)]
        before = [
            (row.generation, NewKeys(key, context.stores.write_secret_of(row)))
            for row, key in every
        ]
    await must_be_new(header_of(rows[0]), new)  # a leaked passphrase must not open the new keys
    pair = headers.new_keys(
        keys.id, keys.generation + 1, suite or opening.suite, secrets.token_bytes
    )
    earlier = {
        generation: await new_slot(context, older, new, label) for generation, older in before
    }
    return NewGeneration(pair, await new_slot(context, pair, new, label), earlier)


async def begin(
    context: Context,
    session: AsyncSession,
    keys: KeySet,
    opening: OpeningKey,
    made: NewGeneration,
    *,
    leave_old: bool,
) -> list[StoreRow]:
    """Pin the headers of the new generation; returns the stores. ``leave_old``: old backups stay
    until they expire.
    """
    pair, generation = made.pair, made.pair.secret.generation
    if generation != keys.generation + 1:
        raise Conflict(
            "The key set was given new keys meanwhile.", "Look at it, and try again if need be."
        )
    rows = await stores_of(session, keys)
    for row, _ in [(keys, opening), *await earlier_keys(session, keys, opening)]:
        row.slots = [made.earlier[row.generation]]
        row.left_to_expire, row.sealed_opening_key = leave_old, None
    session.add(_new_row(context, keys, opening, pair))
    await _pin(context, rows, pair, made.slot)
    # they refer to slots that no longer exist
    await session.execute(delete(Trial).where(Trial.key_set == keys.id))
    return rows


def _new_row(context: Context, keys: KeySet, opening: OpeningKey, pair: NewKeys) -> KeySet:
    generation, seal = pair.secret.generation, context.keyfile.seal
    place = f"key_sets|{keys.id}|{generation}"
    kept = keys.custody == "kept"
    return KeySet(
        id=keys.id,
        generation=generation,
        name=keys.name,
        custody=keys.custody,
        suite=pair.opening.suite,
        sealed_write_secret=seal(pair.secret.raw, f"{place}|write secret"),
        sealed_opening_key=seal(pair.opening.raw, f"{place}|opening key") if kept else None,
        previous_opening_key=generations.seal_previous(
            opening, pair.opening.seal_key(), keys.id, generation
        ),
        created=context.now(),
    )


async def _pin(context: Context, rows: list[StoreRow], pair: NewKeys, slot: Slot) -> None:
    sealed: str | None = None
    for row in rows:
        old = header_of(row)
        header = headers.new_header(
            pair,
            store=row.id,
            written=stamp(context.now()),
            sweeper=old.sweeper,
            slots=[slot],
            plain_names=old.plain_names,
            sealed_secret=sealed,
        )
        sealed = header.write_secret
        data = headers.encode(header)
        row.header, row.header_digest, row.generation = (
            data.decode(),
            blake2b_256(data),
            pair.secret.generation,
        )


async def run_rekey(context: Context, lease: Lease, journal: Journal) -> None:
    """Lock the earlier generations' headers under the new passphrase only, and reseal every
    backup.
    """
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(StoreRow, run.store_id)
        door = await context.stores.door(session, row, removing=True)
        found = await earlier_of(session, row)
    vault = await context.stores.vault(door)
    apart = vault.locked
    if apart:
        vault.unlock(await wait_for_key(context, lease, row, journal))
    await journal.step("Lock the earlier generations under the new passphrase")
    await renew_earlier(vault, found)
    await opened_store.renew_reader(vault)  # reading another suite needs another library
    leaving = {keys.generation for keys in found if keys.left_to_expire}
    await journal.step("Seal backups again")
    here = Holding(vault, context.stores.index(row.id))
    wanted = await _of_earlier_generations(vault, leaving, journal)
    done, failed = await _seal_all(context, lease, row, here, wanted, journal, apart=apart)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        run.documents = done
        run.result = RekeyResult(backups=done, failed=failed, generation=vault.header.generation)
        if failed:
            run.reason = f"{failed} of {len(wanted)} backups could not be sealed again."
            run.remedy = "Scrub the store, then run `fennox store rekey` with --go-on."
            run.problem = "damaged"
        await queue.end(session, run, "failed" if failed else "done", context.now())


async def _seal_all(
    context: Context,
    lease: Lease,
    row: StoreRow,
    here: Holding,
    wanted: list[Record],
    journal: Journal,
    *,
    apart: bool,
) -> tuple[int, int]:
    """Numbers of backups resealed and failed."""
    done = failed = 0
    renamed: dict[str, Previous] = {}
    for record in wanted:
        await journal.check()
        backup, before = record.reference.backup, record.reference.previous
        previous = renamed.get(before.backup) if before else None
        try:
            copied = await copy(here, here, record, journal, previous=previous)
        except (Damaged, NotFound, Conflict) as error:
            failed += 1
            await journal.log("error", f"Backup {backup[:12]} stays as it was: {error.what}")
            continue
        renamed[backup] = Previous(backup=backup, digest=copied.digest)
        await _keep(context, lease, row, here, record, copied.digest, apart=apart)
        if copied.written.objects:
            done += 1
            await journal.log("info", f"{done} resealed, of {len(wanted)}: {backup[:12]}")
    return done, failed


async def _of_earlier_generations(
    vault: Vault, leaving: set[int], journal: Journal
) -> list[Record]:
    # also those resealed earlier: their notes may not have been copied
    good, bad = await record_lists.read_records(vault)
    for name, error in bad:
        await journal.log("error", f"{name}: {error.what}")
    generation = vault.header.generation
    wanted = [
        r
        for r in good
        if r.reference.generation < generation and r.reference.generation not in leaving
    ]
    return sorted(wanted, key=lambda record: (record.reference.system, record.reference.sequence))


async def _keep(
    context: Context,
    lease: Lease,
    row: StoreRow,
    here: Holding,
    record: Record,
    digest: str,
    *,
    apart: bool,
) -> None:
    census = None
    if apart:  # the catalogue's names are keyed with W, which has changed
        anew = await here.vault.find_record(record.reference.backup)
        head = await BackupReader(here.vault, here.index, anew).head()
        census = here.vault.secret.keyed_census(head.census)
    async with context.session() as session:
        await queue.owned(session, lease)
        held = await session.get(Copy, (record.reference.backup, row.id))
        backup = await session.get(Backup, record.reference.backup)
        if held is not None:
            held.digest = digest
        if backup is not None:
            backup.digest = digest if backup.digest == record.digest else backup.digest
            backup.census = census if census is not None else backup.census
