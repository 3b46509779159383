"""Checks before a record is stored: all packs it relies on exist, and what was just written reads
back (§13.3).
"""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from fennox.core.errors import Damaged, NotFound, StoreUnusable, TryLater
from fennox.core.format import packs
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.names import ObjectName
from fennox.engine.backups.pack_index import PackIndex
from fennox.stores.base import Span, Store

_ASKED_ONE_BY_ONE = 16  # packs; for more, whole months are listed


class PacksGone(TryLater):
    """Packs a backup relies on are gone from the store, or a sweep is about to remove them."""


@dataclass(frozen=True)
class Sample:
    """A chunk of a pack just written, to be read back: its place and digest."""

    span: Span
    digest: str


async def see_packs(
    store: Store, index: PackIndex, digests: set[str], own: Collection[ObjectName]
) -> None:
    """Check that every pack exists now, except our ``own``, which are read back anyway. The store
    may have been set back to an older copy, failed over or swept since its packs were listed.
    Raises :class:`PacksGone` and updates the index.
    """
    names = {digest: index.named(digest) for digest in digests}
    relied_on = [name for name in names.values() if name is not None and name not in own]
    sizes = await _sizes(store, relied_on)
    gone = [name for name in relied_on if sizes.get(name) != packs.file_size(index.packs[name])]
    for name in gone:
        index.forget(name)
    if gone or None in names.values():
        index.look_again()
        raise PacksGone(
            f"{store.address} no longer holds {len(gone) or 'some'} of the packs that were there.",
            "It was put back to an older copy, or somebody removed them. Take the backup again.",
        )


async def _sizes(store: Store, names: Sequence[ObjectName]) -> dict[ObjectName, int]:
    """The current sizes of the packs that exist, in bytes, from the store."""
    if len(names) <= _ASKED_ONE_BY_ONE:
        found = await asyncio.gather(*(store.stat(name) for name in names))
        return {item.name: item.size for item in found if item is not None}
    wanted, sizes = set(names), {}
    for month in sorted({name.rsplit("/", 1)[0] for name in names}):
        async for item in store.list(f"{month}/"):
            if item.name in wanted:
                sizes[item.name] = item.size
    return sizes


async def read_back(
    store: Store, index: PackIndex, own: Mapping[ObjectName, Sample], *, whole: bool
) -> None:
    """``whole``: all of each pack; else one chunk of it."""
    for name, sample in own.items():
        try:
            if whole or not store.abilities.ranges:
                packs.check_digest(await store.get(name), name)
            elif blake2b_256(await store.get(name, sample.span)) != sample.digest:
                raise Damaged(f"{name} is not what was written.", "Scrub the store.")
        except (Damaged, NotFound) as error:
            index.mark_damaged(name, error.what)
            raise StoreUnusable(
                f"What was just written to {store.address} does not read back: {error.what}",
                "Do not trust this store before `fennox store test` and a scrub have passed.",
            ) from error
