"""Every backup of a store, from its records."""

from __future__ import annotations

from contextlib import suppress

from fennox.core.errors import (
    Damaged,
    FennoxError,
    NotFound,
    StoreUnusable,
)
from fennox.core.format import header as headers
from fennox.core.format import records
from fennox.core.names import ObjectName
from fennox.engine.backups.vault import Vault


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
    """Raise the error that kept an object from being read, unless the object itself is at fault.

    A far side reports one unreadable object in the same words as a store that can no longer be
    read. So the header is read once more: if that succeeds, the object is at fault.
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
