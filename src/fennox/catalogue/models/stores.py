"""Key sets, stores, and the known state of each."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    ForeignKey,
    Identity,
)
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import Base
from fennox.catalogue.models.typed import Typed
from fennox.core.format.anchors import Anchors
from fennox.core.format.slots import Slot


class KeySet(Base):
    """Keys of a set of stores, one row a generation. Secrets are sealed under the service's key
    file.
    """

    __tablename__ = "key_sets"

    id: Mapped[str] = mapped_column(primary_key=True)
    generation: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    custody: Mapped[str]
    suite: Mapped[str]
    sealed_write_secret: Mapped[bytes]
    sealed_opening_key: Mapped[bytes | None]
    # opening key of the previous generation, sealed to this one's seal key
    previous_opening_key: Mapped[bytes | None]
    slots: Mapped[list[Slot] | None] = mapped_column(Typed(list[Slot]))
    """Of an earlier generation: what its headers are rewritten with."""
    # its backups have not been resealed
    left_to_expire: Mapped[bool] = mapped_column(default=False)
    created: Mapped[datetime]


class SealedSecret(Base):
    """A secret of the service, sealed to a key set so that a passphrase recovers it on an empty
    machine.
    """

    __tablename__ = "sealed_secrets"

    what: Mapped[str] = mapped_column(primary_key=True)
    key_set: Mapped[str] = mapped_column(primary_key=True)
    generation: Mapped[int] = mapped_column(primary_key=True)
    made: Mapped[datetime]
    sealed: Mapped[bytes]


class StoreRow(Base):
    __tablename__ = "stores"

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    address: Mapped[str] = mapped_column(unique=True)
    key_set: Mapped[str]
    generation: Mapped[int]
    header: Mapped[str]  # a copy of the pinned header, canonical JSON
    header_digest: Mapped[str]
    created: Mapped[datetime]
    login_id: Mapped[str | None] = mapped_column(ForeignKey("logins.id"))
    # login for removals, if they use a separate one
    sweep_login_id: Mapped[str | None] = mapped_column(ForeignKey("logins.id"))
    # accepted host key or certificate; for a folder, the mounted device or share
    key: Mapped[str | None]
    site: Mapped[str] = mapped_column(default="")
    scrubbed: Mapped[datetime | None]
    # most bytes one scheduled scrub reads
    scrub_budget: Mapped[int] = mapped_column(default=100_000_000_000)
    # which share of a large store is scrubbed next
    scrub_share: Mapped[int] = mapped_column(default=0)
    swept: Mapped[datetime | None]
    # why the service writes nothing to it; empty: it is in use
    stopped_because: Mapped[str] = mapped_column(default="")
    ceiling: Mapped[str] = mapped_column(default="")  # ceiling for backups; empty: none
    # since when backups exceed it, or were removed because of it
    over_since: Mapped[datetime | None]
    free: Mapped[int | None]  # free bytes when last checked; None: not reported by the store
    # seconds that the far side's clock was ahead of PostgreSQL's when that was last seen
    skew: Mapped[float | None]
    # evidence that the store was set back; empty: none
    went_back: Mapped[str] = mapped_column(default="")


class StoreDamage(Base):
    """A damaged object of a store, found and perhaps healed."""

    __tablename__ = "store_damage"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id", ondelete="CASCADE"), index=True)
    object: Mapped[str]
    what: Mapped[str]
    backups: Mapped[list[str]]  # ids of the backups known to need it
    found: Mapped[datetime]
    healed: Mapped[datetime | None]
    how: Mapped[str] = mapped_column(default="")


class StoreSpace(Base):
    """How full a store was, each time it was checked."""

    __tablename__ = "store_space"

    store_id: Mapped[str] = mapped_column(
        ForeignKey("stores.id", ondelete="CASCADE"), primary_key=True
    )
    at: Mapped[datetime] = mapped_column(primary_key=True)
    objects: Mapped[int]
    used: Mapped[int]
    free: Mapped[int | None]


class StoreAnchor(Base):
    """What a store held when last read; also recorded in other stores (store-format §15)."""

    __tablename__ = "store_anchors"

    store_id: Mapped[str] = mapped_column(
        ForeignKey("stores.id", ondelete="CASCADE"), primary_key=True
    )
    at: Mapped[datetime]
    told: Mapped[Anchors] = mapped_column(Typed(Anchors))


class Trial(Base):
    """The last time a passphrase opened a key set."""

    __tablename__ = "trials"

    key_set: Mapped[str] = mapped_column(primary_key=True)
    slot: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime]
    by: Mapped[str]
