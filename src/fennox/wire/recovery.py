"""The recovery sheet: all that is needed on the bad day, but the passphrase."""

from __future__ import annotations

from fennox.core.time import Aware
from fennox.wire.base import Shown
from fennox.wire.stores import Custody


class StoreOnSheet(Shown):
    """A place to fetch backups from. ``reached_at``: numbers for the name in the address, as they were found."""

    name: str
    id: str
    address: str
    reached_at: list[str]
    account: str | None
    key: str | None
    site: str
    key_set: str
    custody: Custody
    generation: int
    passphrases: list[str]
    header_name: str
    header_digest: str
    header: str


class SystemOnSheet(Shown):
    name: str
    kind: str
    address: str
    account: str | None
    machine: str
    newest: Aware | None
    backup: str | None
    held_in: list[str]


class RecoverySheet(Shown):
    made: Aware
    version: str
    service: str
    reader_sha256: str
    stores: list[StoreOnSheet]
    systems: list[SystemOnSheet]
