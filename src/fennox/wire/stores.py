"""Stores, key sets and logins."""

from __future__ import annotations

from typing import Annotated, Literal, TypeAlias

from pydantic import Field, SecretStr

from fennox.core.format.primitives.hpke import CLASSIC, HYBRID, SuiteName
from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted
from fennox.wire.watch.runs import RunShown

Custody = Literal["kept", "apart"]
Suite: TypeAlias = SuiteName
SUITES: dict[str, Suite] = {"classic": CLASSIC, "hybrid": HYBRID}


class NewStore(Wanted):
    name: Noun
    address: str = Field(
        description=(
            "An absolute folder on the machine that runs the workers, or a URL like"
            " sftp://host/folder."
        ),
        max_length=1024,
    )
    login: Noun | None = Field(
        default=None, description="For everything but a folder: the account there."
    )
    sweep_login: Noun | None = Field(
        default=None, description="A login that alone may remove things; the sweep's."
    )
    key: str | None = Field(
        default=None,
        max_length=256,
        description="The accepted fingerprint of host key or certificate, or `authority`.",
    )
    site: str = Field(default="", max_length=64)
    passphrase: SecretStr | None = Field(
        default=None,
        description="Makes the key set with the first store; opens it for a further one.",
    )
    label: str = Field(
        default="first",
        min_length=1,
        max_length=64,
        description="Of the first passphrase of a key set.",
    )
    key_set: Noun = "main"
    custody: Custody = Field(
        default="kept", description="For a new key set: who can open its backups."
    )
    suite: SuiteName | None = Field(
        default=None,
        description=(
            "Of a new key set: how backups are sealed; with ML-KEM for what is kept for decades."
        ),
    )
    plain_names: bool = True
    beside: bool = Field(default=False, description="Whether other things may lie in its place.")


class StoreChange(Wanted):
    """Omitted fields are unchanged. A changed key can be accepted here."""

    name: Noun | None = None
    login: Noun | None = None
    sweep_login: Noun | Literal[""] | None = Field(
        default=None, description="Empty: none of its own any more."
    )
    key: str | None = Field(default=None, max_length=256)
    site: str | None = Field(default=None, max_length=64)
    scrub_budget: int | None = Field(
        default=None,
        ge=100_000_000,
        le=10**15,
        description="Bytes that one scheduled scrub may read.",
    )
    ceiling: str | None = Field(
        default=None,
        max_length=20,
        description="What backups may take, like 80 % or 500 GB; empty: all.",
    )


class Look(Wanted):
    """Browse a far side's folder before making a store."""

    address: str = Field(max_length=1024)
    login: Noun | None = None
    key: str | None = Field(default=None, max_length=256)


class EntryShown(Shown):
    name: str
    folder: bool
    size: int | None


class FolderShown(Shown):
    address: str
    landed: str
    is_store: bool
    entries: list[EntryShown]


class SlotShown(Shown):
    id: str
    label: str
    since: Aware


class StoreShown(Shown):
    id: str
    name: str
    address: str
    plain: bool
    login: str | None
    sweep_login: str | None
    key: str | None
    site: str
    key_set: str
    custody: Custody
    suite: str
    generation: int
    plain_names: bool
    passphrases: list[SlotShown]
    created: Aware
    backups: int
    newest: Aware | None
    free: int | None
    total: int | None
    scrubbed: Aware | None
    scrub_budget: int
    swept: Aware | None
    ceiling: str
    over_since: Aware | None
    stopped_because: str
    warnings: list[str]


class Forgotten(Shown):
    """Number of backups stored nowhere else, which have left the catalogue."""

    backups: int


class AdoptStore(Wanted):
    """An existing store, with backups unknown to the catalogue."""

    name: Noun
    address: str = Field(max_length=1024)
    login: Noun | None = None
    sweep_login: Noun | None = None
    key: str | None = Field(default=None, max_length=256)
    site: str = Field(default="", max_length=64)
    passphrase: SecretStr
    custody: Custody = "kept"
    key_set: Noun = Field(default="main", description="The name its keys get here.")


class Unlock(Wanted):
    """A passphrase of the key set; needed in custody apart."""

    passphrase: SecretStr | None = None


class NewPassphrase(Unlock):
    label: str = Field(min_length=1, max_length=64)
    new: SecretStr


class RekeyWanted(NewPassphrase):
    leave_old: bool = Field(
        default=False, description="Leave old backups sealed as they are until they expire."
    )
    suite: SuiteName | None = Field(
        default=None, description="How backups are sealed from now on; as before without."
    )


class Withdraw(Unlock):
    which: str = Field(max_length=64, description="Its id or label.")


class TryPassphrase(Wanted):
    passphrase: SecretStr


class CustodyWanted(Unlock):
    custody: Custody


class PassphraseShown(Shown):
    id: str
    label: str
    since: Aware
    memory_kib: int = Field(description="What a guess costs: the memory of Argon2id,")
    passes: int = Field(description="and its passes over that.")
    tried: Aware | None
    tried_by: str | None


class KeySetShown(Shown):
    name: str
    custody: Custody
    suite: str
    generation: int
    stores: list[str]
    passphrases: list[PassphraseShown]
    away: list[str] = []


class DamageShown(Shown):
    object: str
    what: str
    backups: list[str]
    found: Aware
    healed: Aware | None
    how: str


class SpaceShown(Shown):
    at: Aware
    objects: int
    used: int
    free: int | None


class StoreCheck(Shown):
    """One line of a store's test."""

    title: str
    passed: bool
    detail: str


class StoreTest(Shown):
    passed: bool
    checks: list[StoreCheck]


Account = Annotated[str, Field(pattern=r"^([A-Za-z0-9_][A-Za-z0-9_.-]*)?$", max_length=32)]
"""A name as useradd takes it; empty: none."""


class NewLogin(Wanted):
    name: Noun
    account: str = Field(min_length=1, max_length=256)
    password: SecretStr | None = Field(default=None, min_length=1, max_length=1024)
    private_key: SecretStr | None = Field(default=None, min_length=1, max_length=65536)
    certificate: str = Field(
        default="", max_length=16384, description="OpenSSH's certificate for the private key."
    )
    agent: bool = Field(default=False, description="The SSH agent of the workers has the key.")
    here: bool = Field(
        default=False, description="For a machine that is read by a site's worker on it: no secret."
    )
    become: Account = Field(default="", description="The account that commands run as, by sudo.")


class LoginChange(Wanted):
    account: str | None = Field(default=None, min_length=1, max_length=256)
    password: SecretStr | None = Field(default=None, min_length=1, max_length=1024)
    private_key: SecretStr | None = Field(default=None, min_length=1, max_length=65536)
    certificate: str | None = Field(default=None, max_length=16384)
    agent: bool = False
    here: bool = False
    become: Account | None = None


class NewLoginPlace(Wanted):
    """Where a login may be used besides the systems and stores that have it."""

    address: str = Field(min_length=1, max_length=300)
    key: str | None = Field(
        default=None,
        max_length=256,
        description="The accepted fingerprint; without it the error shows one.",
    )
    site: str = Field(
        default="", max_length=64, description="The site from which the machine is reached."
    )


class LoginPlaceShown(Shown):
    address: str
    key: str
    by: str
    at: Aware


class LoginShown(Shown):
    id: str
    name: str
    account: str
    proves_by: Literal["key", "password", "agent", "here"]
    certificate: bool
    become: str
    changed: Aware
    used_by: int
    places: list[LoginPlaceShown] = Field(
        description="Where an administrator has admitted it beside that."
    )


class Rekeyed(Shown):
    """The key set with its new generation, and one run per store."""

    key_set: KeySetShown
    runs: list[RunShown]
