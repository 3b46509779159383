"""What is wrong, and who is alerted."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    CheckConstraint,
    ForeignKey,
    Identity,
    Index,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import Base
from fennox.catalogue.models.typed import Typed
from fennox.core.facts.messages import MessageFacts, RouteSettings


class ConcernRow(Base):
    """Something that is wrong, kept for as long as it lasts. ``cause``: concerns with the same
    cause are reported together, in the sentence ``together``, where ``{these}`` stands for their
    names.
    """

    __tablename__ = "concerns"
    __table_args__ = (
        Index(
            "standing_concerns",
            "cause",
            "severity",
            "since",
            "about",
            "key",
            postgresql_include=["muted_until"],
            postgresql_where=text("ended is null"),
        ),
        Index(
            "worst_concerns",
            "severity",
            "since",
            "about",
            "key",
            postgresql_where=text("ended is null"),
        ),
    )

    key: Mapped[str] = mapped_column(primary_key=True)
    code: Mapped[str] = mapped_column(default="")
    severity: Mapped[str]
    noun: Mapped[str]
    about: Mapped[str]
    cause: Mapped[str]
    together: Mapped[str] = mapped_column(default="")
    text: Mapped[str]
    means: Mapped[str]
    remedy: Mapped[str]
    since: Mapped[datetime]
    ended: Mapped[datetime | None]
    muted_until: Mapped[datetime | None]
    muted_because: Mapped[str] = mapped_column(default="")
    muted_by: Mapped[str] = mapped_column(default="")


class AlertRoute(Base):
    """Who is alerted about what, and how."""

    __tablename__ = "alert_routes"
    __table_args__ = (
        CheckConstraint("channel in ('email', 'webhook', 'syslog', 'file')", name="known_channel"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    channel: Mapped[str]
    address: Mapped[str]
    settings: Mapped[RouteSettings] = mapped_column(Typed(RouteSettings))
    sealed_secret: Mapped[bytes | None]
    severity: Mapped[str]  # the lowest severity that is reported
    systems: Mapped[str]  # a selector of systems, as in a routine
    # schedule of digests, as a phrase; empty: concerns are sent one by one, at once
    digest: Mapped[str] = mapped_column(default="")
    mode: Mapped[str]
    created: Mapped[datetime]
    told_until: Mapped[datetime]  # the last digest covered everything up to here
    # in full; ``address`` shows only the host; secrets in it are left out
    sealed_address: Mapped[bytes | None]
    audit: Mapped[bool] = mapped_column(default=False)  # also receives every entry of the audit


class Alert(Base):
    """One message of one route, until it is sent."""

    __tablename__ = "alerts"
    __table_args__ = (Index("alerts_to_send", "not_before", postgresql_where=text("sent is null")),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    route_id: Mapped[str] = mapped_column(ForeignKey("alert_routes.id", ondelete="CASCADE"))
    at: Mapped[datetime]
    event: Mapped[str]
    body: Mapped[MessageFacts] = mapped_column(Typed(MessageFacts))
    not_before: Mapped[datetime]
    tries: Mapped[int] = mapped_column(default=0)
    sent: Mapped[datetime | None]
    error: Mapped[str] = mapped_column(default="")
