"""Two stores of one key set, as a service with a second copy has them."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Collection
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from fennox.core.format import generations
from fennox.core.format import header as headers
from fennox.core.format.header import NewKeys
from fennox.core.format.primitives.hpke import CLASSIC, SuiteName
from fennox.core.format.slots import Slot
from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding, copy
from fennox.stores.folder import FolderStore
from tests.conftest import CHEAP, PASSPHRASE

SERVICE = "5a" * 16


def new_keys(suite: SuiteName = CLASSIC) -> NewKeys:
    return headers.new_keys(secrets.token_hex(16), 1, suite, secrets.token_bytes)


async def holding(
    folder: Path,
    keys: NewKeys,
    now: Callable[[], datetime],
    *,
    plain_names: bool = True,
    apart: bool = False,
) -> Holding:
    """A new store in ``folder``, made if it is not there."""
    folder.mkdir(exist_ok=True)
    slot = headers.new_slot(
        keys,
        PASSPHRASE,
        label="safe",
        since="20260301T120000Z",
        costs=CHEAP,
        random=secrets.token_bytes,
    )
    vault = await opened_store.create(
        FolderStore(folder), keys, sweeper=SERVICE, slots=[slot], now=now, plain_names=plain_names
    )
    if apart:
        vault.openings = {}
    return Holding(vault, PackIndex())


async def begin_generation(vault: Vault, old: NewKeys, phrase: str) -> tuple[Vault, Slot]:
    """The store with a second key generation that has just begun, and the slot that headers of the
    first one get.
    """
    new = headers.new_keys(old.secret.key_set, 2, old.opening.suite, secrets.token_bytes)
    slots = [
        headers.new_slot(
            pair,
            phrase,
            label="new",
            since="20260302T120000Z",
            costs=CHEAP,
            random=secrets.token_bytes,
        )
        for pair in (old, new)
    ]
    header = headers.new_header(
        new, store=vault.id, written="20260302T120000Z", sweeper=SERVICE, slots=[slots[1]]
    )
    await vault.store.put(headers.name(header), headers.encode(header))
    chain = {
        2: generations.seal_previous(old.opening, new.opening.seal_key(), old.secret.key_set, 2)
    }
    begun = replace(
        vault, header=header, held={1: old.secret, 2: new.secret}, openings={}, chain=chain
    )
    begun.unlock(new.opening)
    return begun, slots[0]


async def reseal(vault: Vault, slot: Slot, without: Collection[str] = ()) -> None:
    """What a rekey run does; ``without``: backups that are left as they are."""
    await opened_store.renew_slots(vault, 1, [slot])
    here = Holding(vault, PackIndex())
    good, bad = await record_lists.read_records(vault)
    assert bad == []
    for record in good:
        if record.reference.generation == 1 and record.reference.backup not in without:
            await copy(here, here, record, MemoryJournal())
