"""Systems, how to reach them, and what was last seen of them."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, false
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import Base
from fennox.catalogue.models.typed import Typed
from fennox.core.format.manifest import Machine


class KindRow(Base):
    """A kind that an administrator added; its newest version counts."""

    __tablename__ = "kinds"

    name: Mapped[str] = mapped_column(primary_key=True)
    version: Mapped[int] = mapped_column(primary_key=True)
    text: Mapped[str]
    added: Mapped[datetime]
    by: Mapped[str]


class Login(Base):
    __tablename__ = "logins"

    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    account: Mapped[str]
    proves_by: Mapped[str]
    sealed_secret: Mapped[bytes]
    # account that commands run as, through sudo; empty: the login's own
    become: Mapped[str] = mapped_column(default="")
    # OpenSSH certificate for its key; not a secret
    certificate: Mapped[str] = mapped_column(default="")
    changed: Mapped[datetime]


class LoginPlace(Base):
    """A machine where an administrator admitted a login, besides the systems and stores that use
    it.
    """

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
    # None: the service itself
    login_id: Mapped[str | None] = mapped_column(ForeignKey("logins.id"))
    key: Mapped[str]
    # a machine for practice: no routine takes it, and it does not count as part of the estate
    spare: Mapped[bool] = mapped_column(default=False, server_default=false())
    site: Mapped[str]
    labels: Mapped[list[str]]
    settings: Mapped[dict[str, str]]
    machine: Mapped[Machine | None] = mapped_column(Typed(Machine))
    # ids of systems that must be restored before it, as entered by a person
    needs: Mapped[list[str]] = mapped_column(default=list)
    via_id: Mapped[str | None] = mapped_column(  # the system through which it is reached
        ForeignKey("systems.id", deferrable=True, initially="DEFERRED")
    )
    # seconds allowed for a connection
    patience: Mapped[int] = mapped_column(default=15, server_default="15")
    key_until: Mapped[datetime | None]  # expiry of the certificate it presents
    # why routines skip it; empty: they do not
    suspended_because: Mapped[str] = mapped_column(default="")
    # actions around takes that were not undone, by title
    left_open: Mapped[list[str]] = mapped_column(default=list)
    retired: Mapped[datetime | None]  # when it was retired
    retired_because: Mapped[str] = mapped_column(default="")
    # a person released a retired system's backups
    let_go: Mapped[bool] = mapped_column(default=False)
    looked: Mapped[datetime | None]  # of the last look between takes
    # how it differs from its last backup, as text
    differs: Mapped[str] = mapped_column(default="")
    differs_since: Mapped[datetime | None]
    # digest of the difference, and since when it has been stable
    differs_state: Mapped[str] = mapped_column(default="")
    differs_still: Mapped[datetime | None]
    skew: Mapped[float | None]  # seconds that its clock was ahead at its last take
    # default accounts that still let one in
    default_logins: Mapped[list[str]] = mapped_column(default=list)
    defaults_tried: Mapped[datetime | None]  # when that was last checked
    # time of its newest good backup; maintained by the database (migration 0013)
    newest_good: Mapped[datetime | None]
    # its backups' dates and their order contradict each other
    disordered: Mapped[bool] = mapped_column(default=False)
    version: Mapped[int] = mapped_column(default=1)
    created: Mapped[datetime]


class StateRow(Base):
    """What a look compares with: digests of the last backup, keyed with the key set's write
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
    # digest of the machine's answers at that time; empty: they cannot show a change
    likeness: Mapped[str] = mapped_column(default="")


class HandedIn(Base):
    """A document exported and handed in by a person; sealed here until a backup holds it."""

    __tablename__ = "handed_in"

    system_id: Mapped[str] = mapped_column(
        ForeignKey("systems.id", ondelete="CASCADE"), primary_key=True
    )
    document: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime]
    by: Mapped[str]
    size: Mapped[int]
    sealed: Mapped[bytes | None]
    # the backup that holds it, on hold until a newer document is handed in
    backup_id: Mapped[str | None]


class Site(Base):
    """A site whose machines are reached through a worker there."""

    __tablename__ = "sites"

    name: Mapped[str] = mapped_column(primary_key=True)  # the name used by systems
    token_hash: Mapped[str] = mapped_column(unique=True)
    admitted: Mapped[datetime]
    by: Mapped[str]
    seen: Mapped[datetime | None]  # by the database's clock
    connected: Mapped[bool | None]
    machine: Mapped[str | None]
    version: Mapped[str | None]
    key: Mapped[str | None]  # of the machine it runs on, where that is read as `here`
    # where it takes pushes for the receiving end, host:port; empty: not
    drop: Mapped[str | None]  # by SFTP
    drop_ftps: Mapped[str | None]  # by FTP with TLS
    drop_passive: Mapped[str | None]  # and the ports of its data connections, FIRST-LAST
    skew: Mapped[float | None]  # seconds that its clock is ahead of the service's
