"""The catalogue: what Fennox knows. The database holds the invariants; the stores hold the backups
themselves.
"""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    ColumnElement,
    Computed,
    DateTime,
    Float,
    ForeignKey,
    Identity,
    Index,
    LargeBinary,
    String,
    UniqueConstraint,
    literal_column,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.ext.asyncio import AsyncAttrs
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from fennox.catalogue.typed import OrderColumn, ResultColumn, Typed
from fennox.core.facts.messages import MessageFacts, RouteSettings
from fennox.core.facts.run_orders import RunOrder
from fennox.core.facts.run_results import RunResult
from fennox.core.format.anchors import Anchors
from fennox.core.format.manifest import Certificate, Finding, Machine, PartHeld
from fennox.core.format.notes import Note
from fennox.core.format.slots import Slot
from fennox.core.restoring.sheet import Sheet

_OR_NULL = JSONB(none_as_null=True)  # None is SQL's null, not JSON's
ACTIVE = ("queued", "running", "waiting")


def constant(word: str) -> ColumnElement[str]:
    """A word of our own, in the statement itself: which partial index fits is then seen also by a
    plan that is kept.
    """
    return literal_column(f"'{word}'", String)


class Base(AsyncAttrs, DeclarativeBase):
    type_annotation_map = {
        datetime: DateTime(timezone=True),
        dict[str, str]: JSONB,
        dict[str, list[str]]: JSONB,
        dict[str, dict[str, str]]: JSONB,
        dict[str, tuple[int, float]]: JSONB,
        list[str]: JSONB,
        int: BigInteger,
        bytes: LargeBinary,
        str: String,
    }


class ServiceState(Base):
    """One row: who this service is, and by which clock it lives."""

    __tablename__ = "service_state"
    __table_args__ = (CheckConstraint("one = 1", name="only_one_service"),)

    one: Mapped[int] = mapped_column(primary_key=True, default=1)
    id: Mapped[str]
    clock: Mapped[str]
    created: Mapped[datetime]
    setup_code: Mapped[str | None]  # SHA-256 of the one-time code for the first administrator
    tended: Mapped[
        datetime | None
    ]  # when ladders and stores were last looked after, by the service's clock
    tended_run: Mapped[int] = mapped_column(default=0)  # the last run that had been queued then
    apart: Mapped[bool] = mapped_column(
        default=False
    )  # whether since then clocks or dates spoke against each other
    approvals: Mapped[list[str]] = mapped_column(
        default=list
    )  # groups of grave acts that need a second person


class ClockAcceptance(Base):
    """What a person confirmed of a clock or a date that disagrees with the service's clock
    (``core.moments``).
    """

    __tablename__ = "clock_acceptances"

    name: Mapped[str] = mapped_column(primary_key=True)  # of the clock or event
    ahead: Mapped[float | None] = mapped_column(Float)  # seconds that this clock may be ahead
    until: Mapped[datetime | None]  # dates of this event up to here are known
    at: Mapped[datetime]
    by: Mapped[str]


class KindRow(Base):
    """A kind that an administrator added; its newest version counts."""

    __tablename__ = "kinds"

    name: Mapped[str] = mapped_column(primary_key=True)
    version: Mapped[int] = mapped_column(primary_key=True)
    text: Mapped[str]
    added: Mapped[datetime]
    by: Mapped[str]


class User(Base):
    __tablename__ = "users"
    __table_args__ = (
        CheckConstraint(
            "role in ('reader', 'auditor', 'operator', 'administrator')", name="known_role"
        ),
        Index(
            "one_user_for_a_subject",
            "issuer",
            "subject",
            unique=True,
            postgresql_where=text("issuer <> ''"),
        ),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    role: Mapped[str]
    password_hash: Mapped[str]
    created: Mapped[datetime]
    rights: Mapped[list[str] | None] = mapped_column(_OR_NULL)  # None: those of the role
    scope: Mapped[list[str] | None] = mapped_column(
        _OR_NULL
    )  # selectors of systems, of which one must fit; None: the whole estate
    must_change: Mapped[bool] = mapped_column(default=False)  # somebody else has set the password
    issuer: Mapped[str] = mapped_column(
        default=""
    )  # of the provider that vouches for this person; empty: nobody
    subject: Mapped[str] = mapped_column(default="")  # what that provider calls them, for ever
    sealed_totp: Mapped[
        bytes | None
    ]  # the secret of time-based codes (RFC 6238); None: none is asked for
    totp_since: Mapped[datetime | None]
    totp_used: Mapped[int] = mapped_column(
        default=0
    )  # the time step of the last code: each counts once


class RecoveryCode(Base):
    """Signs a person in once where their second factor is lost."""

    __tablename__ = "recovery_codes"

    user_id: Mapped[str] = mapped_column(
        ForeignKey("users.id", ondelete="CASCADE"), primary_key=True
    )
    hash: Mapped[str] = mapped_column(primary_key=True)


class Passkey(Base):
    """A credential of a person's device (WebAuthn level 2): its public key alone."""

    __tablename__ = "passkeys"

    id: Mapped[str] = mapped_column(primary_key=True)  # the credential's, in base64url
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    public_key: Mapped[bytes]
    sign_count: Mapped[int]
    created: Mapped[datetime]
    used: Mapped[datetime | None]


class Challenge(Base):
    """What a sign-in in several steps remembers between them, under a digest of what its caller
    holds.
    """

    __tablename__ = "challenges"

    id: Mapped[str] = mapped_column(primary_key=True)
    purpose: Mapped[str]
    data: Mapped[dict[str, str]]
    until: Mapped[datetime]


class Token(Base):
    """A session of a person, or a token that they made for a program. Only the hash is kept.

    ``role``, ``rights`` and ``scope`` narrow what the person may do; None: it is not narrowed.
    """

    __tablename__ = "tokens"
    __table_args__ = (
        CheckConstraint(
            "purpose in ('console', 'client', 'automation', 'metrics')", name="known_purpose"
        ),
    )

    hash: Mapped[str] = mapped_column(primary_key=True)
    id: Mapped[str] = mapped_column(unique=True)
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    purpose: Mapped[str]
    name: Mapped[str] = mapped_column(default="")
    role: Mapped[str | None]
    rights: Mapped[list[str] | None] = mapped_column(_OR_NULL)
    scope: Mapped[list[str] | None] = mapped_column(_OR_NULL)
    created: Mapped[datetime]
    until: Mapped[datetime]
    used: Mapped[datetime | None]  # to the minute
    address: Mapped[str] = mapped_column(default="")  # from where it began
    program: Mapped[str] = mapped_column(default="")  # what began it, as it says itself
    proved: Mapped[
        datetime | None
    ]  # when the person last proved who they are, by the database's clock


class Approval(Base):
    """A grave act that waits for a second person, or has been decided. It lets that one request
    through, once.

    ``digest``: of the request, keyed; ``shown``: what is to be done, as ``[name, value]`` without
    secrets.
    """

    __tablename__ = "approvals"
    __table_args__ = (
        CheckConstraint("state in ('asked', 'granted', 'refused', 'used')", name="known_state"),
        Index("approvals_by_request", "user_id", "digest"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"))
    by: Mapped[str]
    operation: Mapped[str]
    act: Mapped[str]  # the group of grave acts that it belongs to
    about: Mapped[str]
    shown: Mapped[list[list[str]]] = mapped_column(JSONB)
    sheet_id: Mapped[str | None]
    system_id: Mapped[str | None]  # whose scope covers it; None: the whole estate
    digest: Mapped[str]
    at: Mapped[datetime]
    until: Mapped[datetime]
    state: Mapped[str]
    decided_by: Mapped[str] = mapped_column(default="")
    decided: Mapped[datetime | None]
    because: Mapped[str] = mapped_column(default="")


class SignInFailure(Base):
    __tablename__ = "sign_in_failures"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    subject: Mapped[str] = mapped_column(index=True)
    at: Mapped[datetime] = mapped_column(index=True)
    attempt: Mapped[str] = mapped_column(default="")  # the try that goes on; empty: it has failed


class Audit(Base):
    """What was done or refused. ``place`` and ``digest`` chain the entries, once they are
    committed.
    """

    __tablename__ = "audit"
    __table_args__ = (Index("not_chained_yet", "id", postgresql_where=text("place is null")),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    at: Mapped[datetime]
    by: Mapped[str]
    action: Mapped[str]
    noun: Mapped[str]
    name: Mapped[str]
    details: Mapped[dict[str, str]]
    address: Mapped[str] = mapped_column(default="")
    place: Mapped[int | None] = mapped_column(unique=True)  # in the chain, from 1
    digest: Mapped[str] = mapped_column(default="")  # of this entry and the digest before it


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
    previous_opening_key: Mapped[
        bytes | None
    ]  # of the generation before, sealed to this one's seal key
    slots: Mapped[list[Slot] | None] = mapped_column(Typed(list[Slot]))
    """Of a generation that has gone by: what its headers get."""
    left_to_expire: Mapped[bool] = mapped_column(default=False)  # its backups are not sealed anew
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
    sweep_login_id: Mapped[str | None] = mapped_column(
        ForeignKey("logins.id")
    )  # alone removes things, if there is one
    key: Mapped[
        str | None
    ]  # the accepted host key or certificate; for a folder, what it is mounted from
    site: Mapped[str] = mapped_column(default="")
    scrubbed: Mapped[datetime | None]
    scrub_budget: Mapped[int] = mapped_column(
        default=100_000_000_000
    )  # bytes that one scheduled scrub may read
    scrub_share: Mapped[int] = mapped_column(default=0)  # which share of a large store is read next
    swept: Mapped[datetime | None]
    stopped_because: Mapped[str] = mapped_column(
        default=""
    )  # why nothing is written to it; empty: nothing is wrong
    ceiling: Mapped[str] = mapped_column(default="")  # what backups may take of it; empty: all
    over_since: Mapped[datetime | None]  # since when they take more, or since backups went for it
    free: Mapped[int | None]  # bytes, when it was last looked at; None: it does not tell
    skew: Mapped[
        float | None
    ]  # seconds that the far side's clock was ahead of PostgreSQL's when that was last seen
    went_back: Mapped[str] = mapped_column(
        default=""
    )  # how the store is older than what was written there; empty: no


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
    """What a store held when it was last looked at, as other stores are told, too (store-format
    §15).
    """

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


class Login(Base):
    __tablename__ = "logins"

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    account: Mapped[str]
    proves_by: Mapped[str]
    sealed_secret: Mapped[bytes]
    become: Mapped[str] = mapped_column(
        default=""
    )  # the account that commands run as, by sudo; empty: its own
    certificate: Mapped[str] = mapped_column(default="")  # OpenSSH's, for its key; it is no secret
    changed: Mapped[datetime]


class LoginPlace(Base):
    """Where an administrator has admitted a login, beside the systems and stores that use it."""

    __tablename__ = "login_places"

    login_id: Mapped[str] = mapped_column(
        ForeignKey("logins.id", ondelete="CASCADE"), primary_key=True
    )
    address: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)
    by: Mapped[str]
    at: Mapped[datetime]


class System(Base):
    __tablename__ = "systems"

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    folder: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[str]
    address: Mapped[str]
    login_id: Mapped[str | None] = mapped_column(
        ForeignKey("logins.id")
    )  # None: the service itself
    key: Mapped[str]
    site: Mapped[str]
    labels: Mapped[list[str]]
    settings: Mapped[dict[str, str]]
    machine: Mapped[Machine | None] = mapped_column(Typed(Machine))
    needs: Mapped[list[str]] = mapped_column(
        default=list
    )  # ids of systems that a person says must be back before it
    via_id: Mapped[str | None] = mapped_column(  # the system that the way to it leads through
        ForeignKey("systems.id", deferrable=True, initially="DEFERRED")
    )
    patience: Mapped[int] = mapped_column(
        default=15, server_default="15"
    )  # seconds that a connection may take
    key_until: Mapped[datetime | None]  # when the certificate that it shows ends
    suspended_because: Mapped[str] = mapped_column(
        default=""
    )  # why no routine takes it; empty: they do
    left_open: Mapped[list[str]] = mapped_column(
        default=list
    )  # what takes did around them and did not undo, by title
    retired: Mapped[datetime | None]  # since when it is no more
    retired_because: Mapped[str] = mapped_column(default="")
    let_go: Mapped[bool] = mapped_column(
        default=False
    )  # a person says that a retired one's backups may go
    looked: Mapped[datetime | None]  # when it was last looked at between takes
    differs: Mapped[str] = mapped_column(
        default=""
    )  # how it differs from its last backup, in words
    differs_since: Mapped[datetime | None]
    differs_state: Mapped[str] = mapped_column(
        default=""
    )  # a digest of how it differs, and since when it stands so
    differs_still: Mapped[datetime | None]
    skew: Mapped[float | None]  # seconds that its clock was ahead at its last take
    default_logins: Mapped[list[str]] = mapped_column(
        default=list
    )  # accounts of a fresh installation that still work
    defaults_tried: Mapped[datetime | None]  # when that was last seen
    newest_good: Mapped[
        datetime | None
    ]  # of its backups that are good; kept by the database (migration 0013)
    disordered: Mapped[bool] = mapped_column(
        default=False
    )  # its backups' dates and their order contradict each other
    version: Mapped[int] = mapped_column(default=1)
    created: Mapped[datetime]


class StateRow(Base):
    """What a look compares a system with: digests of its last backup under the key set's write
    secret.
    """

    __tablename__ = "states"

    system_id: Mapped[str] = mapped_column(
        ForeignKey("systems.id", ondelete="CASCADE"), primary_key=True
    )
    backup_id: Mapped[str]
    key_set: Mapped[str]
    generation: Mapped[int]
    parts: Mapped[dict[str, dict[str, str]]]
    likeness: Mapped[str] = mapped_column(
        default=""
    )  # how the machine answered then, as a digest too; empty: its answers do not tell


class HandedIn(Base):
    """A document that a person exported and gave: sealed here only until a backup holds it."""

    __tablename__ = "handed_in"

    system_id: Mapped[str] = mapped_column(
        ForeignKey("systems.id", ondelete="CASCADE"), primary_key=True
    )
    document: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime]
    by: Mapped[str]
    size: Mapped[int]
    sealed: Mapped[bytes | None]
    backup_id: Mapped[
        str | None
    ]  # the backup that holds it, on hold until a newer one is handed in


class Routine(Base):
    __tablename__ = "routines"
    __table_args__ = (CheckConstraint("mode in ('on', 'off', 'by hand')", name="known_mode"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    systems: Mapped[str]
    when: Mapped[str]
    zone: Mapped[str]
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    copy_to: Mapped[list[str]] = mapped_column(default=list)  # ids of further stores
    ladder: Mapped[str]
    mode: Mapped[str]
    parts: Mapped[list[str] | None]
    spread: Mapped[int] = mapped_column(default=0)  # minutes over which its systems begin
    quiet: Mapped[str] = mapped_column(
        default=""
    )  # hours in which nothing begins, like 08:00 to 18:00
    look_every: Mapped[int] = mapped_column(
        default=0
    )  # minutes between looks whether something differs; 0: none
    settle: Mapped[int] = mapped_column(
        default=10
    )  # minutes that it must stand as it is before it is taken
    most_a_day: Mapped[int] = mapped_column(default=4)  # takes because something differs
    version: Mapped[int] = mapped_column(default=1)
    created: Mapped[datetime]
    decided_until: Mapped[datetime]  # due times up to here have been decided


class SheetRow(Base):
    """A run sheet; ``data`` is the versioned document."""

    __tablename__ = "sheets"

    id: Mapped[str] = mapped_column(primary_key=True)
    system_id: Mapped[str] = mapped_column(ForeignKey("systems.id"), index=True)
    backup_id: Mapped[str] = mapped_column(index=True)
    target_login_id: Mapped[str] = mapped_column(ForeignKey("logins.id"))
    entrance_login_id: Mapped[str | None] = mapped_column(ForeignKey("logins.id"))
    state: Mapped[str]
    data: Mapped[Sheet] = mapped_column(Typed(Sheet))
    version: Mapped[int]
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
        CheckConstraint("""kind = "order" ->> 'kind'""", name="order_is_of_its_kind"),
    )

    id: Mapped[str] = mapped_column(primary_key=True)
    number: Mapped[int] = mapped_column(
        Identity()
    )  # in the order in which runs were queued, whatever clocks said
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
    not_before: Mapped[
        datetime | None
    ]  # by the database's clock; only a run that was put off waits for a moment
    attempt: Mapped[int] = mapped_column(default=0)
    fence: Mapped[int] = mapped_column(default=0)
    worker: Mapped[str | None]
    lease_until: Mapped[datetime | None]
    stop_asked: Mapped[bool] = mapped_column(default=False)
    behind: Mapped[
        str | None
    ]  # the active run of its system that it waits for before it is in the queue at all
    told: Mapped[datetime | None]  # when it last told anything, by the database's clock
    step: Mapped[str] = mapped_column(default="")
    documents: Mapped[int] = mapped_column(default=0)
    size: Mapped[int] = mapped_column(default=0)
    reason: Mapped[str] = mapped_column(default="")
    remedy: Mapped[str] = mapped_column(default="")
    problem: Mapped[str | None]
    odd: Mapped[str] = mapped_column(
        default=""
    )  # how it differs from earlier runs of the same system
    worker_key: Mapped[
        bytes | None
    ]  # public half of the worker's key for this run, while it waits for a passphrase
    sealed_opening_key: Mapped[bytes | None]  # sealed to worker_key; nobody else can open it


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
    sequence: Mapped[
        int
    ]  # in the order in which they were taken; negative: of another history, its place is unknown
    digest: Mapped[str]
    parts: Mapped[list[PartHeld]] = mapped_column(Typed(list[PartHeld]))
    documents: Mapped[int]
    size: Mapped[int]
    new_bytes: Mapped[int]
    unchanged: Mapped[bool]
    partial: Mapped[bool]
    account: Mapped[str]  # of the login it was taken with
    machine: Mapped[Machine] = mapped_column(Typed(Machine))
    census: Mapped[dict[str, list[str]]]  # list → names; in custody apart: keyed digests
    findings: Mapped[list[Finding]] = mapped_column(Typed(list[Finding]))
    left_out: Mapped[list[str]]
    certificates: Mapped[list[Certificate]] = mapped_column(Typed(list[Certificate]), default=list)
    held: Mapped[bool] = mapped_column(default=False)
    held_because: Mapped[str] = mapped_column(default="")
    doubtful: Mapped[bool] = mapped_column(default=False)
    doubtful_because: Mapped[str] = mapped_column(default="")
    expired: Mapped[bool] = mapped_column(default=False)  # marked: it may go, and can still be kept
    expired_at: Mapped[
        datetime | None
    ]  # when it was marked; those of one round have the same moment
    expired_by: Mapped[str] = mapped_column(default="")  # `ladder`, or the person who said so
    misdated: Mapped[bool] = mapped_column(
        default=False
    )  # its date is known to be wrong: no ladder counts by it
    noted: Mapped[datetime | None]  # the date of the last note about it


class Copy(Base):
    """A store that holds a backup."""

    __tablename__ = "copies"
    __table_args__ = (Index("last_put", "store_id", text("number desc")),)

    number: Mapped[int] = mapped_column(
        Identity()
    )  # in the order in which they were put, whatever clocks said
    backup_id: Mapped[str] = mapped_column(
        ForeignKey("backups.id", ondelete="CASCADE"), primary_key=True
    )
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"), primary_key=True)
    since: Mapped[datetime]
    digest: Mapped[str] = mapped_column(default="")  # of the record in this store
    verified: Mapped[datetime | None]
    damaged: Mapped[str] = mapped_column(
        default=""
    )  # why it cannot be read whole; empty: nothing is known against it
    let_go: Mapped[bool] = mapped_column(default=False)  # before its time, for the store's ceiling
    let_go_at: Mapped[datetime | None]  # when it was marked so
    removable_since: Mapped[datetime | None]  # when a sweep first saw that it is marked


class Removal(Base):
    """A backup that a sweep removed from a store: listed by name for a year."""

    __tablename__ = "removals"
    __table_args__ = (Index("removed_last", text("at desc"), text("id desc")),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id", ondelete="CASCADE"), index=True)
    system_id: Mapped[str] = mapped_column(index=True)
    system: Mapped[str]  # its name then
    backup_id: Mapped[str]
    name: Mapped[str]
    time: Mapped[datetime]
    sequence: Mapped[int]
    size: Mapped[int]
    why: Mapped[str]
    at: Mapped[datetime]
    run_id: Mapped[str]


class PendingNote(Base):
    """A fact about a backup that a store could not be told yet."""

    __tablename__ = "pending_notes"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id", ondelete="CASCADE"))
    backup_id: Mapped[str] = mapped_column(ForeignKey("backups.id", ondelete="CASCADE"), index=True)
    note: Mapped[Note] = mapped_column(Typed(Note))
    at: Mapped[datetime]


class Worker(Base):
    __tablename__ = "workers"

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str]
    started: Mapped[datetime] = mapped_column(server_default=text("now()"))
    seen: Mapped[datetime] = mapped_column(server_default=text("now()"))
    skew: Mapped[float] = mapped_column(
        Float, default=0.0
    )  # seconds that its clock is ahead of the database's
    version: Mapped[str] = mapped_column(default="")
    draining: Mapped[bool] = mapped_column(default=False)  # it takes nothing new
    for_sites: Mapped[bool] = mapped_column(default=False)  # it takes nothing but runs at sites
    stopped: Mapped[datetime | None]  # when it ended as planned


class EstateCount(Base):
    """One row: how much is protected, as it was counted when it was last looked at what is
    wrong.
    """

    __tablename__ = "estate_counts"
    __table_args__ = (CheckConstraint("one = 1", name="only_one_count"),)

    one: Mapped[int] = mapped_column(primary_key=True, default=1)
    systems: Mapped[int]  # that are not retired
    protected: Mapped[int]
    backups: Mapped[int]
    stores: Mapped[dict[str, tuple[int, float]]]
    """By id: how many backups, and when the newest was taken (seconds since 1970)."""


class Site(Base):
    """A site whose machines are reached through a worker that stands there."""

    __tablename__ = "sites"

    name: Mapped[str] = mapped_column(primary_key=True)  # as systems name it
    token_hash: Mapped[str] = mapped_column(unique=True)
    admitted: Mapped[datetime]
    by: Mapped[str]
    seen: Mapped[datetime | None]  # by the database's clock
    connected: Mapped[bool | None]
    machine: Mapped[str | None]
    version: Mapped[str | None]
    key: Mapped[str | None]  # of the machine it runs on, where that is read as `here`
    skew: Mapped[float | None]  # seconds that its clock is ahead of the service's


class ConcernRow(Base):
    """Something that is wrong, for as long as it is. ``cause``: those with the same one are told
    together.

    ``together``: how, with ``{these}`` in place of their names.
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
    """Who is told of what, and how."""

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
    severity: Mapped[str]  # the least that is told
    systems: Mapped[str]  # which systems, as a routine says it
    digest: Mapped[str] = mapped_column(
        default=""
    )  # when all is told at once, as a phrase; empty: at once
    mode: Mapped[str]
    created: Mapped[datetime]
    told_until: Mapped[datetime]  # up to here the digest has told
    sealed_address: Mapped[bytes | None]  # in full; ``address`` shows no more than where it is
    audit: Mapped[bool] = mapped_column(default=False)  # told of each entry of the audit as well


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
