"""Key sets and stores, and what is known of their state."""

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
    # of the generation before, sealed to this one's seal key
    previous_opening_key: Mapped[bytes | None]
    slots: Mapped[list[Slot] | None] = mapped_column(Typed(list[Slot]))
    """Of an earlier generation: what its headers are rewritten with."""
    left_to_expire: Mapped[bool] = mapped_column(default=False)  # its backups are not resealed
    created: Mapped[datetime]


class SealedSecret(Base):
    """A secret of the service sealed to a key set, so that a passphrase brings it back on an empty
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
    # alone removes things, if there is one
    sweep_login_id: Mapped[str | None] = mapped_column(ForeignKey("logins.id"))
    # the accepted host key or certificate; for a folder, what it is mounted from
    key: Mapped[str | None]
    site: Mapped[str] = mapped_column(default="")
    scrubbed: Mapped[datetime | None]
    # bytes that one scheduled scrub may read
    scrub_budget: Mapped[int] = mapped_column(default=100_000_000_000)
    scrub_share: Mapped[int] = mapped_column(default=0)  # which share of a large store is read next
    swept: Mapped[datetime | None]
    # why nothing is written to it; empty: nothing is wrong
    stopped_because: Mapped[str] = mapped_column(default="")
    ceiling: Mapped[str] = mapped_column(default="")  # what backups may take of it; empty: all
    over_since: Mapped[datetime | None]  # since when they take more, or since backups went for it
    free: Mapped[int | None]  # bytes, at the last look; None: the store does not report it
    # seconds that the far side's clock was ahead of PostgreSQL's when that was last seen
    skew: Mapped[float | None]
    # how the store is older than what was written there; empty: no
    went_back: Mapped[str] = mapped_column(default="")


class StoreDamage(Base):
    """An object of a store that is not what was written: found, and perhaps healed."""

    __tablename__ = "store_damage"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id", ondelete="CASCADE"), index=True)
    object: Mapped[str]
    what: Mapped[str]
    backups: Mapped[list[str]]  # ids of those that need it, as far as they are known
    found: Mapped[datetime]
    healed: Mapped[datetime | None]
    how: Mapped[str] = mapped_column(default="")


class StoreSpace(Base):
    """How full a store was, by each look at it."""

    __tablename__ = "store_space"

    store_id: Mapped[str] = mapped_column(
        ForeignKey("stores.id", ondelete="CASCADE"), primary_key=True
    )
    at: Mapped[datetime] = mapped_column(primary_key=True)
    objects: Mapped[int]
    used: Mapped[int]
    free: Mapped[int | None]


class StoreAnchor(Base):
    """What a store held at the last look; other stores keep this as well (store-format §15)."""

    __tablename__ = "store_anchors"

    store_id: Mapped[str] = mapped_column(
        ForeignKey("stores.id", ondelete="CASCADE"), primary_key=True
    )
    at: Mapped[datetime]
    told: Mapped[Anchors] = mapped_column(Typed(Anchors))


class Trial(Base):
    """The last time a passphrase was tried on a key set and opened it."""

    __tablename__ = "trials"

    key_set: Mapped[str] = mapped_column(primary_key=True)
    slot: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime]
    by: Mapped[str]
