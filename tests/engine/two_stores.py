"""Two stores of one key set, as a service with a second copy has them."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from fennox.core.format import header as headers
from fennox.core.format.header import NewKeys
from fennox.core.format.hpke import CLASSIC
from fennox.engine import vault as vaults
from fennox.engine.copying import Holding
from fennox.engine.index import PackIndex
from fennox.stores.folder import FolderStore
from tests.conftest import CHEAP, PASSPHRASE

SERVICE = "5a" * 16


def new_keys() -> NewKeys:
    return headers.new_keys(secrets.token_hex(16), 1, CLASSIC, secrets.token_bytes)


async def holding(
    folder: Path, keys: NewKeys, now: Callable[[], datetime], *, plain_names: bool = True, apart: bool = False
) -> Holding:
    """A new store in ``folder``, made if it is not there."""
    folder.mkdir(exist_ok=True)
    slot = headers.new_slot(keys, PASSPHRASE, label="safe", since="20260301T120000Z", costs=CHEAP,
                            random=secrets.token_bytes)  # fmt: skip
    vault = await vaults.create(
        FolderStore(folder), keys, sweeper=SERVICE, slots=[slot], now=now, plain_names=plain_names
    )
    if apart:
        vault.openings = {}
    return Holding(vault, PackIndex())
