"""People, their credentials, and the audit of what they did."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    CheckConstraint,
    ForeignKey,
    Identity,
    Index,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import OR_NULL, Base


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
    rights: Mapped[list[str] | None] = mapped_column(OR_NULL)  # None: the rights of the role
    # selectors of systems, one of which must match; None: the whole estate
    scope: Mapped[list[str] | None] = mapped_column(OR_NULL)
    # somebody else set the password; it must be changed
    must_change: Mapped[bool] = mapped_column(default=False)
    # identity provider that vouches for this person; empty: none
    issuer: Mapped[str] = mapped_column(default="")
    subject: Mapped[str] = mapped_column(default="")  # the provider's permanent subject id
    # secret of time-based codes (RFC 6238); None: no second factor
    sealed_totp: Mapped[bytes | None]
    totp_since: Mapped[datetime | None]
    # time step of the last accepted code; each code works once
    totp_used: Mapped[int] = mapped_column(default=0)


class RecoveryCode(Base):
    """Signs a person in once when their second factor is lost."""

    __tablename__ = "recovery_codes"

    user_id: Mapped[str] = mapped_column(
        ForeignKey("users.id", ondelete="CASCADE"), primary_key=True
    )
    hash: Mapped[str] = mapped_column(primary_key=True)


class Passkey(Base):
    """A credential of a person's device (WebAuthn level 2); only the public key is kept."""

    __tablename__ = "passkeys"

    id: Mapped[str] = mapped_column(primary_key=True)  # the credential's, in base64url
    user_id: Mapped[str] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    public_key: Mapped[bytes]
    sign_count: Mapped[int]
    created: Mapped[datetime]
    used: Mapped[datetime | None]


class Challenge(Base):
    """State between the steps of a sign-in, stored under a digest of the caller's handle."""

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
    rights: Mapped[list[str] | None] = mapped_column(OR_NULL)
    scope: Mapped[list[str] | None] = mapped_column(OR_NULL)
    created: Mapped[datetime]
    until: Mapped[datetime]
    used: Mapped[datetime | None]  # to the minute
    address: Mapped[str] = mapped_column(default="")  # from where it began
    # the program that began it, by its own account
    program: Mapped[str] = mapped_column(default="")
    # when the person last authenticated, by the database's clock
    proved: Mapped[datetime | None]


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
    act: Mapped[str]  # group of grave acts
    about: Mapped[str]
    shown: Mapped[list[list[str]]] = mapped_column(JSONB)
    sheet_id: Mapped[str | None]
    # only people whose scope covers it may approve; None: the whole estate
    system_id: Mapped[str | None]
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
    attempt: Mapped[str] = mapped_column(default="")  # of the attempt in progress; empty: it failed


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
    place: Mapped[int | None] = mapped_column(unique=True)  # position in the chain, from 1
    digest: Mapped[str] = mapped_column(default="")  # over this entry and the previous digest
