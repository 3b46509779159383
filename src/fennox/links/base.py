"""Connecting to machines. Host keys and certificates are checked here, once, before anything is
sent.
"""

from __future__ import annotations

import os
import socket
from collections.abc import (
    AsyncGenerator,
    AsyncIterator,
    Awaitable,
    Callable,
    Collection,
    Mapping,
    Sequence,
)
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal, Protocol, runtime_checkable

from fennox.core.compare.sensitive import without_secrets
from fennox.core.errors import BadInput, FennoxError

MAX_OUTPUT = 64 * 1024 * 1024  # bytes of command output kept in memory


@dataclass(frozen=True)
class Credential:
    """An account with a password or a private key (OpenSSH text), the latter perhaps with a
    certificate.

    ``become``: account that commands run as, through sudo (empty: the account itself). ``agent``:
    socket path of an SSH agent that holds the keys, instead of password and key.
    """

    account: str
    password: str | None = field(default=None, repr=False)
    private_key: str | None = field(default=None, repr=False)
    certificate: str | None = None
    become: str = ""
    agent: str | None = None


@dataclass(frozen=True)
class Address:
    """Host and port."""

    host: str
    port: int

    def __str__(self) -> str:
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"


Dial = Callable[[Address], Awaitable[socket.socket]]
"""Makes a connection to an address, where it is not this machine's own network that leads there."""


def parse_address(text: str, default_port: int) -> Address:
    """``host``, ``host:port`` or ``[v6]:port``."""
    host, separator, port = text.rpartition(":")
    if not separator or (":" in host and not host.endswith("]")):
        host, port = text, str(default_port)
    host = host.strip("[]")
    if (
        not host
        or not port.isdigit()
        or not 0 < int(port) < 65536
        or any(c.isspace() or c in "/@" for c in host)
    ):
        raise BadInput(
            f"{text!r} is not an address.", "Write host:port, like 10.1.2.3:22.", field="address"
        )
    return Address(host, int(port))


def why_not_listening(error: OSError) -> str:
    """asyncio says the address once more, as Python writes it."""
    if isinstance(error, socket.gaierror) or not error.errno:
        return error.strerror or str(error)
    return os.strerror(error.errno)


@dataclass(frozen=True)
class Hop:
    """A jump host: address, login, and accepted key."""

    address: Address
    credential: Credential
    fingerprint: str


@dataclass(frozen=True)
class Output:
    """How a command ended. ``errors`` is bounded text."""

    code: int
    output: bytes
    errors: str

    def said(self) -> str:
        """The command's explanation: its standard error, or if empty the end of its output, as many
        programs write it there. Shown in runs, concerns, alerts and logs; likely secrets in it are
        hidden.
        """
        told = (
            self.errors.strip()[:300]
            or self.output[-1200:].decode("utf-8", "replace").strip()[-300:]
        )
        return without_secrets(told)


class Running(Protocol):
    """A command whose output is streamed. ``ended`` is known once ``blocks`` is exhausted."""

    def blocks(self) -> AsyncGenerator[bytes, None]: ...

    async def ended(self) -> Output: ...


FarFileKind = Literal["file", "folder", "link", "other"]


@dataclass(frozen=True)
class FarFile:
    """A path's metadata as reported by SFTP: numeric owners, whole seconds."""

    path: bytes
    kind: FarFileKind
    size: int  # bytes
    mode: int
    uid: int
    gid: int
    modified: int  # seconds since 1970
    link: bytes = b""


class RemoteFiles(Protocol):
    """Files of a machine, one by one. Missing files yield None or nothing; every other failure is
    an error.
    """

    async def look(self, path: bytes) -> FarFile | None:
        """Metadata of a path; links are not followed."""

    def walk(self, root: bytes) -> AsyncGenerator[FarFile, None]:
        """The root and everything below it; links are not followed."""

    def read(self, path: bytes) -> AsyncGenerator[bytes, None]: ...

    async def make_folder(self, path: bytes) -> None: ...

    async def make_link(self, path: bytes, target: bytes) -> None: ...

    async def write(self, path: bytes, content: AsyncIterator[bytes], like: FarFile) -> None:
        """Writes atomically."""

    async def set(self, path: bytes, like: FarFile) -> None:
        """Sets owner, mode, and for a file its time."""


@dataclass
class SecondLink:
    """The further way to a machine, opened when it is first needed; closed with the first one.
    ``fault``: why it could not be opened.
    """

    open: Callable[[], Awaitable[Link]]
    fault: FennoxError | None = None
    _link: Link | None = field(default=None, repr=False)

    async def link(self) -> Link:
        if self._link is None:
            try:
                self._link = await self.open()
            except FennoxError as error:
                self.fault = error
                raise
        return self._link

    async def close(self) -> None:
        link, self._link = self._link, None
        if link is not None:
            await link.close()


ShellLanguage = Literal["posix", "powershell"]


@runtime_checkable
class Shell(Protocol):
    """Commands on a machine. The link quotes all words for the shell."""

    language: ShellLanguage
    """What words are quoted for."""
    secrets: Mapping[str, str | None]
    """Secret settings of the system, for documents of a backup; no command has them. None: it has
    none such.
    """
    beside: SecondLink | None
    """The further way to the same machine, if its kind has one."""

    @property
    def fingerprint(self) -> str:
        """``SHA256:…`` of the verified host key."""

    async def run(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None, limit: float = 60
    ) -> Output:
        """Run to the end within ``limit`` seconds, feeding standard input if given."""

    async def ask(self, questions: Sequence[list[str]], *, limit: float = 60) -> list[Output]:
        """As :meth:`series`, for commands with short outputs: returns all outputs in order.
        Standard error is discarded.
        """

    def series(
        self, questions: Sequence[list[str]], *, heard: Collection[int] = ()
    ) -> AbstractAsyncContextManager[AsyncIterator[Running]]:
        """Run commands one after the other, without input, in one request if the far side's shell
        can. Each must be read to its end before requesting the next. ``heard``: those whose
        standard error matters.
        """

    def stream(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None
    ) -> AbstractAsyncContextManager[Running]:
        """Run with its output streamed, feeding standard input if given."""

    def files(self) -> AbstractAsyncContextManager[RemoteFiles]:
        """The machine's files, with the login's permissions."""

    async def close(self) -> None: ...


@dataclass(frozen=True)
class Answer:
    """An answer of an HTTP interface."""

    status: int
    body: bytes


@runtime_checkable
class Web(Protocol):
    """Requests to a machine's HTTPS interface."""

    beside: SecondLink | None
    """As for a shell."""

    @property
    def fingerprint(self) -> str:
        """``SHA256:…`` of the verified certificate."""

    @property
    def until(self) -> datetime | None:
        """Expiry of that certificate, if known."""

    @property
    def secrets(self) -> Mapping[str, str | None]:
        """Secret settings of the system, for the bodies of requests. None: it has none such."""

    async def request(
        self, method: str, path: str, *, json: object = None, limit: float = 60
    ) -> Answer: ...

    def download(self, method: str, path: str) -> AsyncGenerator[bytes, None]: ...

    async def upload(
        self, method: str, path: str, content: AsyncIterator[bytes], *, limit: float = 600
    ) -> Answer: ...

    async def close(self) -> None: ...


Link = Shell | Web
