"""The receiving end: where it listens, who may push, and what has arrived."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

ListenWanted = Annotated[str, Field(max_length=300)]


class DropWanted(Wanted):
    """What is left out stays as it is."""

    sftp: ListenWanted | None = Field(
        default=None, description="host:port on which SFTP is served; empty: not."
    )
    ftps: ListenWanted | None = Field(
        default=None, description="host:port on which FTP with TLS is served; empty: not."
    )
    ftp: ListenWanted | None = Field(
        default=None,
        description=(
            "host:port on which plain FTP is served; empty: not. Secrets and files travel in clear."
        ),
    )
    public: str | None = Field(
        default=None,
        max_length=255,
        pattern=r"^[A-Za-z0-9.:-]*$",
        description="The host to enter in systems; empty: the one it listens on.",
    )
    passive: str | None = Field(
        default=None,
        pattern=r"^(\d{1,5}-\d{1,5})?$",
        description="Ports of FTP's data connections, FIRST-LAST; empty: any.",
    )
    rate: int | None = Field(
        default=None,
        ge=0,
        le=10**12,
        description=(
            "Bytes a second that one system may push, over all of its connections; at least 100000,"
            " or 0: any number."
        ),
    )


class DropListening(Shown):
    protocol: Literal["sftp", "ftps", "ftp"]
    address: str
    problem: str = Field(description="Why it does not listen there; empty: it does.")


class DropShown(Shown):
    sftp: str
    ftps: str
    ftp: str
    public: str
    passive: str
    rate: int | None = Field(
        description="Bytes a second that one system may push; 0: any number, null: not set up."
    )
    listening: list[DropListening] = Field(
        description="What the receiver said when it began to listen; empty: nothing runs."
    )
    host_key: str = Field(description="Fingerprint of the SFTP server; empty: not made yet.")
    certificate: str = Field(description="Fingerprint of the certificate of FTPS, SHA-256.")
    free: int | None = Field(description="Bytes left on the spool's disk.")
    version: int


class Arrived(Shown):
    name: str
    size: int
    begun: Aware
    ended: Aware | None
    state: Literal["arriving", "broken", "arrived"]
    sealed: bool = Field(
        description=(
            "Whether its content is sealed in the spool. What was not written from its beginning to"
            " its end lies there in clear, for the service's account alone, until it is taken."
        )
    )
    problem: str
    expected: bool = Field(description="Whether the system's kind knows a file of this name.")


class DropOfSystem(Shown):
    """``account``: null if the system has no login at the drop."""

    system: str
    account: str | None
    keys: int
    made: Aware | None
    by: str | None
    waits: str = Field(description="What is being waited for or missing, in words; empty: nothing.")
    files: list[Arrived]


class NewDropLogin(Wanted):
    key: str | None = Field(
        default=None,
        max_length=4096,
        description="The system's own public key, in OpenSSH's form; SFTP then needs no secret.",
    )


class DropLoginMade(Shown):
    """``secret`` is shown once."""

    system: str
    account: str
    secret: str
    folder: str
    sftp: str = Field(description="host:port; empty: SFTP is off.")
    ftps: str
    ftp: str
    host_key: str
    certificate: str


class Discarded(Wanted):
    name: str = Field(max_length=1000)
