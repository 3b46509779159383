"""Backups, their copies in stores, and what was removed."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    ForeignKey,
    Identity,
    Index,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import Base
from fennox.catalogue.models.typed import Typed
from fennox.core.format.manifest import Certificate, Finding, Machine, PartHeld
from fennox.core.format.notes import Note


class Backup(Base):
    __tablename__ = "backups"
    __table_args__ = (
        UniqueConstraint("system_id", "sequence", name="a_sequence_number_is_used_once"),
        Index(
            "newest_good",
            "system_id",
            text("sequence desc"),
            postgresql_where=text("purpose = 'backup' and doubtful is false and partial is false"),
        ),
        Index(
            "newest_partial",
            "system_id",
            text("sequence desc"),
            postgresql_where=text("purpose = 'backup' and doubtful is false and partial is true"),
        ),
        Index("by_name", "name", postgresql_where=text("name <> ''")),
        Index("doubted", "system_id", postgresql_where=text("doubtful and expired is false")),
        Index("to_be_counted", "system_id", postgresql_where=text("purpose = 'backup'")),
        Index(
            "standing",
            "system_id",
            text("time desc"),
            text("sequence desc"),
            postgresql_include=[
                "id",
                "doubtful",
                "purpose",
                "held",
                "partial",
                "new_bytes",
                "misdated",
            ],
            postgresql_where=text("expired is false"),
        ),
        Index("marked", "id", postgresql_where=text("expired")),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    system_id: Mapped[str] = mapped_column(ForeignKey("systems.id"))
    run_id: Mapped[str]
    routine_id: Mapped[str | None]
    name: Mapped[str]
    note: Mapped[str]
    purpose: Mapped[str]
    kind: Mapped[str]
    time: Mapped[datetime] = mapped_column(index=True)
    # in the order in which backups were taken; negative: from another history, place unknown
    sequence: Mapped[int]
    digest: Mapped[str]
    parts: Mapped[list[PartHeld]] = mapped_column(Typed(list[PartHeld]))
    documents: Mapped[int]
    size: Mapped[int]
    new_bytes: Mapped[int]
    unchanged: Mapped[bool]
    partial: Mapped[bool]
    account: Mapped[str]  # of the login used for the take
    machine: Mapped[Machine] = mapped_column(Typed(Machine))
    census: Mapped[dict[str, list[str]]]  # list → names; in custody apart: keyed digests
    findings: Mapped[list[Finding]] = mapped_column(Typed(list[Finding]))
    left_out: Mapped[list[str]]
    certificates: Mapped[list[Certificate]] = mapped_column(Typed(list[Certificate]), default=list)
    held: Mapped[bool] = mapped_column(default=False)
    held_because: Mapped[str] = mapped_column(default="")
    doubtful: Mapped[bool] = mapped_column(default=False)
    doubtful_because: Mapped[str] = mapped_column(default="")
    expired: Mapped[bool] = mapped_column(default=False)  # marked for removal; can still be kept
    # when it was marked; one round marks all with the same time
    expired_at: Mapped[datetime | None]
    expired_by: Mapped[str] = mapped_column(default="")  # `ladder`, or the person who marked it
    # its date is known to be wrong, so no ladder counts it
    misdated: Mapped[bool] = mapped_column(default=False)
    noted: Mapped[datetime | None]  # the date of the last note about it


class Copy(Base):
    """A store that holds a backup."""

    __tablename__ = "copies"
    __table_args__ = (Index("last_put", "store_id", text("number desc")),)

    # in the order of writing, whatever the clocks showed
    number: Mapped[int] = mapped_column(Identity())
    backup_id: Mapped[str] = mapped_column(
        ForeignKey("backups.id", ondelete="CASCADE"), primary_key=True
    )
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"), primary_key=True)
    since: Mapped[datetime]
    digest: Mapped[str] = mapped_column(default="")  # of the record in this store
    verified: Mapped[datetime | None]
    # why it cannot be read completely; empty: no known damage
    damaged: Mapped[str] = mapped_column(default="")
    # marked early, because of the store's ceiling
    let_go: Mapped[bool] = mapped_column(default=False)
    let_go_at: Mapped[datetime | None]  # when it was marked so
    removable_since: Mapped[datetime | None]  # when a sweep first saw the mark


class Removal(Base):
    """A backup that a sweep removed from a store: listed by name for a year."""

    __tablename__ = "removals"
    __table_args__ = (Index("removed_last", text("at desc"), text("id desc")),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id", ondelete="CASCADE"), index=True)
    system_id: Mapped[str] = mapped_column(index=True)
    system: Mapped[str]  # its name at that time
    backup_id: Mapped[str]
    name: Mapped[str]
    time: Mapped[datetime]
    sequence: Mapped[int]
    size: Mapped[int]
    why: Mapped[str]
    at: Mapped[datetime]
    run_id: Mapped[str]


class PendingNote(Base):
    """A note about a backup that has not been written to a store yet."""

    __tablename__ = "pending_notes"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id", ondelete="CASCADE"))
    backup_id: Mapped[str] = mapped_column(ForeignKey("backups.id", ondelete="CASCADE"), index=True)
    note: Mapped[Note] = mapped_column(Typed(Note))
    at: Mapped[datetime]
