"""The receiving end: where it listens, and who may push."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, CheckConstraint, ForeignKey
from sqlalchemy.orm import Mapped, mapped_column

from fennox.catalogue.models.base import Base


class DropSettings(Base):
    """One row, made when the receiving end is first set up. An empty address: off."""

    __tablename__ = "drop_settings"
    __table_args__ = (CheckConstraint("one = 1", name="only_one_drop"),)

    one: Mapped[int] = mapped_column(primary_key=True, default=1)
    sftp: Mapped[str] = mapped_column(default="")  # host:port
    ftps: Mapped[str] = mapped_column(default="")
    ftp: Mapped[str] = mapped_column(default="")  # secrets and files travel in clear
    public: Mapped[str] = mapped_column(default="")  # the host to enter in systems
    passive: Mapped[str] = mapped_column(default="")  # ports of FTP's data, FIRST-LAST; empty: any
    # bytes a second of one system; 0: any number
    rate: Mapped[int] = mapped_column(BigInteger, default=100_000_000)
    sealed_host_key: Mapped[bytes]
    host_key: Mapped[str]  # its fingerprint
    certificate: Mapped[str]  # PEM
    sealed_certificate_key: Mapped[bytes]
    version: Mapped[int] = mapped_column(default=1)
    made: Mapped[datetime]


class DropAccount(Base):
    """The account of one system."""

    __tablename__ = "drop_accounts"

    system_id: Mapped[str] = mapped_column(
        ForeignKey("systems.id", ondelete="CASCADE"), primary_key=True
    )
    account: Mapped[str] = mapped_column(unique=True)
    secret: Mapped[str]  # SHA-256 of 160 random bits
    keys: Mapped[list[str]] = mapped_column(default=list)  # public keys in OpenSSH's form
    made: Mapped[datetime]
    by: Mapped[str]
