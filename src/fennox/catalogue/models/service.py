"""The service itself: its identity, its clock, and how much it protects."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    CheckConstraint,
    Float,
)
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import Base


class ServiceState(Base):
    """One row: the service's identity and clock."""

    __tablename__ = "service_state"
    __table_args__ = (CheckConstraint("one = 1", name="only_one_service"),)

    one: Mapped[int] = mapped_column(primary_key=True, default=1)
    id: Mapped[str]
    clock: Mapped[str]
    created: Mapped[datetime]
    setup_code: Mapped[str | None]  # SHA-256 of the one-time code for the first administrator
    # when ladders and stores were last tended, by the service's clock
    tended: Mapped[datetime | None]
    tended_run: Mapped[int] = mapped_column(default=0)  # the last run queued by that time
    # whether clocks or dates have disagreed since then
    apart: Mapped[bool] = mapped_column(default=False)
    # groups of grave acts that need a second person
    approvals: Mapped[list[str]] = mapped_column(default=list)


class ClockAcceptance(Base):
    """A person's confirmation of a clock or a date that disagrees with the service's clock."""

    __tablename__ = "clock_acceptances"

    name: Mapped[str] = mapped_column(primary_key=True)  # of the clock or event
    ahead: Mapped[float | None] = mapped_column(Float)  # seconds that this clock may be ahead
    until: Mapped[datetime | None]  # dates of this event up to here are known
    at: Mapped[datetime]
    by: Mapped[str]


class EstateCount(Base):
    """One row: how much is protected, as of the last pass over the whole estate."""

    __tablename__ = "estate_counts"
    __table_args__ = (CheckConstraint("one = 1", name="only_one_count"),)

    one: Mapped[int] = mapped_column(primary_key=True, default=1)
    systems: Mapped[int]  # systems that are not retired
    protected: Mapped[int]
    backups: Mapped[int]
    stores: Mapped[dict[str, tuple[int, float]]]
    """By id: how many backups, and when the newest was taken (seconds since 1970)."""
