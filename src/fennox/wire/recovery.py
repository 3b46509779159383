"""The recovery sheet: everything needed after a disaster, except the passphrase."""

from __future__ import annotations

from pydantic import Field

from fennox.core.format.anchors import Anchors
from fennox.core.time import Aware
from fennox.wire.base import Shown
from fennox.wire.stores import Custody, Suite


class SealedLogin(Shown):
    """A remote store's login, which would otherwise exist only in that store and in the lost
    service.

    ``sealed``: password or private key, base64, HPKE-sealed with ``info`` to the seal key in the
    store's header.
    """

    name: str
    account: str
    proves_by: str
    info: str
    sealed: str


class StoreOnSheet(Shown):
    """A place to fetch backups from. ``reached_at``: IP addresses found for the name in the
    address. ``anchors``: its content when last read, with later backups added.
    """

    name: str
    id: str
    address: str
    reached_at: list[str]
    account: str | None
    key: str | None
    site: str
    key_set: str
    custody: Custody
    suite: Suite
    generation: int
    passphrases: list[str]
    header_name: str
    header_digest: str
    header: str
    login: SealedLogin | None
    anchors: Anchors | None


class SystemOnSheet(Shown):
    name: str
    kind: str
    address: str
    account: str | None
    machine: str
    product: str = Field(description="What runs there, with its version, as last reported.")
    rebuilt_by: str = Field(
        description="What rebuilds it where Fennox does not restore it; empty: Fennox does."
    )
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
    waves: list[list[str]] = Field(
        description="In which order systems come back; those of one wave together."
    )
    circles: list[list[str]] = Field(description="Systems that all need each other.")
