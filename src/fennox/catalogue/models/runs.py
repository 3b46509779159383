"""Routines, runs with their steps and lines, run sheets, and workers."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    CheckConstraint,
    ColumnElement,
    Computed,
    Float,
    ForeignKey,
    Identity,
    Index,
    UniqueConstraint,
    and_,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import Base, constant
from fennox.catalogue.models.typed import OrderColumn, ResultColumn, Typed
from fennox.core.deploying.deployment import Deployment
from fennox.core.facts.run_orders import RunOrder
from fennox.core.facts.run_results import RunResult
from fennox.core.restoring.sheet import Sheet

ACTIVE = ("queued", "running", "waiting")


class Routine(Base):
    __tablename__ = "routines"
    __table_args__ = (CheckConstraint("mode in ('on', 'off', 'by hand')", name="known_mode"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    systems: Mapped[str]
    when: Mapped[str]
    zone: Mapped[str]
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    copy_to: Mapped[list[str]] = mapped_column(default=list)  # ids of the stores to copy to
    ladder: Mapped[str]
    mode: Mapped[str]
    parts: Mapped[list[str] | None]
    # minutes over which the starts of its systems are spread
    spread: Mapped[int] = mapped_column(default=0)
    # hours in which no take starts, such as 08:00 to 18:00
    quiet: Mapped[str] = mapped_column(default="")
    # minutes between looks for changes; 0: no looks
    look_every: Mapped[int] = mapped_column(default=0)
    # minutes a change must be stable before it is taken
    settle: Mapped[int] = mapped_column(default=10)
    most_a_day: Mapped[int] = mapped_column(default=4)  # takes triggered by changes
    version: Mapped[int] = mapped_column(default=1)
    created: Mapped[datetime]
    decided_until: Mapped[datetime]  # due times up to here have been handled


class SheetRow(Base):
    """A run sheet; ``data`` is the versioned document."""

    __tablename__ = "sheets"

    id: Mapped[str] = mapped_column(primary_key=True)
    system_id: Mapped[str] = mapped_column(ForeignKey("systems.id"), index=True)
    # the enrolled spare that is the target, while it is marked as one
    spare_id: Mapped[str | None] = mapped_column(ForeignKey("systems.id", ondelete="SET NULL"))
    backup_id: Mapped[str] = mapped_column(index=True)
    target_login_id: Mapped[str] = mapped_column(ForeignKey("logins.id"))
    entrance_login_id: Mapped[str | None] = mapped_column(ForeignKey("logins.id"))
    # that of the machine afterwards; None: the system's
    after_login_id: Mapped[str | None] = mapped_column(ForeignKey("logins.id"))
    state: Mapped[str]
    data: Mapped[Sheet] = mapped_column(Typed(Sheet))
    version: Mapped[int]
    created: Mapped[datetime]
    by: Mapped[str]

    @classmethod
    def was_proved(cls) -> ColumnElement[bool]:
        """Restores that were proved, also those that went back afterwards, as practice does."""
        proved: ColumnElement[bool] = cls.data["proof"]["proved"].as_boolean()
        return and_(proved, cls.data["purpose"].astext != "return")

    @property
    def target_system_id(self) -> str:
        """The system whose machine this sheet's runs work on; one active run per system."""
        return self.spare_id or self.system_id


class DeploymentRow(Base):
    """A new machine for a system, on a host. ``state``: that of ``data``, for queries."""

    __tablename__ = "deployments"

    id: Mapped[str] = mapped_column(primary_key=True)
    system_id: Mapped[str] = mapped_column(ForeignKey("systems.id", ondelete="CASCADE"), index=True)
    host_id: Mapped[str] = mapped_column(ForeignKey("systems.id", ondelete="CASCADE"), index=True)
    backup_id: Mapped[str]
    run_id: Mapped[str] = mapped_column(default="")  # the newest run for it
    state: Mapped[str]
    data: Mapped[Deployment] = mapped_column(Typed(Deployment))
    created: Mapped[datetime]
    by: Mapped[str]


PEOPLE = "!"


_LANE = (
    "case when routine_id is not null then routine_id when by in ('schedule', 'rebuild') or"
    f" starts_with(by, 'routine ') then '' else '{PEOPLE}' end"
)


class Run(Base):
    """One piece of work, and the queue itself. Outcomes are conditional on ``fence``."""

    __tablename__ = "runs"
    __table_args__ = (
        Index(
            "one_active_run_for_a_system",
            "system_id",
            unique=True,
            postgresql_where=text(
                "system_id is not null and behind is null and state in ('queued', 'running',"
                " 'waiting')"
            ),
        ),
        UniqueConstraint("routine_id", "system_id", "due", name="a_due_time_is_decided_once"),
        Index(
            "waiting_in_the_queue",
            "lane",
            "queued_at",
            postgresql_where=text("(state = 'queued') is true"),
        ),
        Index("newest_of_a_system", "system_id", text("created desc")),
        Index(
            "last_of_a_kind",
            "system_id",
            "kind",
            text("created desc"),
            postgresql_where=text("state = 'done'"),
        ),
        Index(
            "of_a_store",
            "store_id",
            "kind",
            text("number desc"),
            postgresql_where=text("system_id is null"),
        ),
        Index(
            "failed_for_stores",
            "kind",
            "store_id",
            postgresql_where=text("system_id is null and state = 'failed'"),
        ),
        Index("newest_first", text("created desc"), text("id desc")),
        Index(
            "active", "state", postgresql_where=text("state in ('queued', 'running', 'waiting')")
        ),
        Index("lined_up", "system_id", "number", postgresql_where=text("behind is not null")),
        Index("going_on", "routine_id", postgresql_where=text("state = 'running'")),
        Index(
            "decided_last",
            "routine_id",
            "system_id",
            text("number desc"),
            postgresql_where=text("due is not null"),
        ),
        CheckConstraint(
            "state in ('queued', 'running', 'waiting', 'done', 'failed', 'stopped')",
            name="known_state",
        ),
        CheckConstraint("""coalesce("order" ->> 'kind', '') = kind""", name="order_is_of_its_kind"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    # in queueing order, whatever the clocks showed
    number: Mapped[int] = mapped_column(Identity())
    kind: Mapped[str]
    state: Mapped[str]
    system_id: Mapped[str | None] = mapped_column(ForeignKey("systems.id"), index=True)
    store_id: Mapped[str | None] = mapped_column(ForeignKey("stores.id"))
    routine_id: Mapped[str | None] = mapped_column(ForeignKey("routines.id", ondelete="SET NULL"))
    sheet_id: Mapped[str | None] = mapped_column(ForeignKey("sheets.id"), index=True)
    backup_id: Mapped[str | None]  # fixed when the run is queued
    order: Mapped[RunOrder] = mapped_column(OrderColumn)
    result: Mapped[RunResult | None] = mapped_column(ResultColumn, nullable=False, default=None)
    by: Mapped[str]
    idempotency_key: Mapped[str | None] = mapped_column(unique=True)
    due: Mapped[datetime | None]
    created: Mapped[datetime]
    started: Mapped[datetime | None]
    ended: Mapped[datetime | None]
    queued_at: Mapped[datetime] = mapped_column(server_default=text("now()"))
    lane: Mapped[str] = mapped_column(Computed(_LANE, persisted=True))
    """Where it waits: with those of its routine, with what else is due by itself, or with what
    people wait for.
    """
    # by the database's clock; set only for a postponed run
    not_before: Mapped[datetime | None]
    attempt: Mapped[int] = mapped_column(default=0)
    fence: Mapped[int] = mapped_column(default=0)
    worker: Mapped[str | None]
    lease_until: Mapped[datetime | None]
    stop_asked: Mapped[bool] = mapped_column(default=False)
    # the active run of the same system that must end before this one enters the queue
    behind: Mapped[str | None]
    told: Mapped[datetime | None]  # time of its last report, by the database's clock
    step: Mapped[str] = mapped_column(default="")
    documents: Mapped[int] = mapped_column(default=0)
    size: Mapped[int] = mapped_column(default=0)
    reason: Mapped[str] = mapped_column(default="")
    remedy: Mapped[str] = mapped_column(default="")
    problem: Mapped[str | None]
    # how it differs from earlier runs of the same system
    odd: Mapped[str] = mapped_column(default="")
    # public half of the worker's key for this run, set while it waits for a passphrase
    worker_key: Mapped[bytes | None]
    sealed_opening_key: Mapped[bytes | None]  # the opening key, sealed to worker_key


class RunStep(Base):
    __tablename__ = "run_steps"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    run_id: Mapped[str] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"), index=True)
    attempt: Mapped[int]
    title: Mapped[str]
    started: Mapped[datetime]
    ended: Mapped[datetime | None]


class RunLog(Base):
    __tablename__ = "run_log"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    run_id: Mapped[str] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"), index=True)
    at: Mapped[datetime]
    level: Mapped[str]
    text: Mapped[str]


IS_ACTIVE = Run.state.in_([constant(state) for state in ACTIVE])


class Worker(Base):
    __tablename__ = "workers"

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str]
    started: Mapped[datetime] = mapped_column(server_default=text("now()"))
    seen: Mapped[datetime] = mapped_column(server_default=text("now()"))
    # seconds that its clock is ahead of the database's
    skew: Mapped[float] = mapped_column(Float, default=0.0)
    version: Mapped[str] = mapped_column(default="")
    draining: Mapped[bool] = mapped_column(default=False)  # it accepts no new runs
    for_sites: Mapped[bool] = mapped_column(default=False)  # it accepts only runs at sites
    stopped: Mapped[datetime | None]  # when it shut down as planned
