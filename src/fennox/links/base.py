"""Reaching a machine and talking to it. Host keys and certificates are checked here, once, before
anything is sent.
"""

from __future__ import annotations

import socket
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Collection, Sequence
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal, Protocol, runtime_checkable

from fennox.core.compare.sensitive import without_secrets
from fennox.core.errors import BadInput

MAX_OUTPUT = 64 * 1024 * 1024  # bytes of a command's output that is kept in memory


@dataclass(frozen=True)
class Credential:
    """An account with a password or a private key (OpenSSH text), the latter perhaps with a
    certificate.

    ``become``: the account that commands run as, by sudo (empty: the account itself). ``agent``:
    the path of the socket of an SSH agent that has the keys, in place of password and key.
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


@dataclass(frozen=True)
class Hop:
    """A machine that the way to another one leads through: where, as whom, and the key that was
    accepted for it.
    """

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
        """What it says of how it ended: beside its output, or if nothing, the end of that, as many
        programs do.

        It is told in runs, concerns, alerts and logs; what looks like a secret in it is hidden.
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
    """What lies at a path of a machine, as SFTP reports it: owners by number, whole seconds."""

    path: bytes
    kind: FarFileKind
    size: int  # bytes
    mode: int
    uid: int
    gid: int
    modified: int  # seconds since 1970
    link: bytes = b""


class RemoteFiles(Protocol):
    """Files of a machine, one by one. What is not there is None or nothing; all else that fails is
    an error.
    """

    async def look(self, path: bytes) -> FarFile | None:
        """What lies there, links not followed."""

    def walk(self, root: bytes) -> AsyncGenerator[FarFile, None]:
        """The root and all below it, links not followed."""

    def read(self, path: bytes) -> AsyncGenerator[bytes, None]: ...

    async def make_folder(self, path: bytes) -> None: ...

    async def make_link(self, path: bytes, target: bytes) -> None: ...

    async def write(self, path: bytes, content: AsyncIterator[bytes], like: FarFile) -> None:
        """Whole or not at all."""

    async def set(self, path: bytes, like: FarFile) -> None:
        """Owner, mode, and for a file its time."""


ShellLanguage = Literal["posix", "powershell"]


@runtime_checkable
class Shell(Protocol):
    """Commands on a machine. Words are quoted by the link; none reaches a shell bare."""

    language: ShellLanguage
    """What words are quoted for."""

    @property
    def fingerprint(self) -> str:
        """``SHA256:…`` of the host key that was checked."""

    async def run(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None, limit: float = 60
    ) -> Output:
        """Run to the end within ``limit`` seconds, feeding standard input if given."""

    async def ask(self, questions: Sequence[list[str]], *, limit: float = 60) -> list[Output]:
        """As :meth:`series`, for commands whose outputs are short: all of them, in the same order.

        What they write beside them is thrown away.
        """

    def series(
        self, questions: Sequence[list[str]], *, heard: Collection[int] = ()
    ) -> AbstractAsyncContextManager[AsyncIterator[Running]]:
        """Run commands one after the other, without input, all in one go where the far side's shell
        can.

        Each is to be read to its end before the next is asked for. ``heard``: those of which it
        matters what they write beside their output.
        """

    def stream(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None
    ) -> AbstractAsyncContextManager[Running]:
        """Run with its output streamed, feeding standard input if given."""

    def files(self) -> AbstractAsyncContextManager[RemoteFiles]:
        """The machine's files, as the login may see them."""

    async def close(self) -> None: ...


@dataclass(frozen=True)
class Answer:
    """An answer of an HTTP interface."""

    status: int
    body: bytes


@runtime_checkable
class Web(Protocol):
    """Requests to a machine's HTTPS interface."""

    @property
    def fingerprint(self) -> str:
        """``SHA256:…`` of the certificate that was checked."""

    @property
    def until(self) -> datetime | None:
        """When that certificate ends, if known."""

    async def request(
        self, method: str, path: str, *, json: object = None, limit: float = 60
    ) -> Answer: ...

    def download(self, method: str, path: str) -> AsyncGenerator[bytes, None]: ...

    async def upload(
        self, method: str, path: str, content: AsyncIterator[bytes], *, limit: float = 600
    ) -> Answer: ...

    async def close(self) -> None: ...


Link = Shell | Web
