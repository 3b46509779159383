"""Commands over SSH (RFC 4251 to 4254), with asyncssh."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import shlex
import time
from collections.abc import (
    AsyncGenerator,
    AsyncIterator,
    Awaitable,
    Callable,
    Collection,
    Coroutine,
    Mapping,
    Sequence,
)
from contextlib import asynccontextmanager

import asyncssh

from fennox.core.errors import FarSideFailed, Unreachable, WrongLogin
from fennox.links.base import (
    MAX_OUTPUT,
    Address,
    Credential,
    Dial,
    Hop,
    Output,
    Running,
    SecondLink,
    ShellLanguage,
)
from fennox.links.secure_shell.command_series import script
from fennox.links.secure_shell.powershell import in_powershell
from fennox.links.secure_shell.sftp import SftpFiles
from fennox.links.secure_shell.ssh_connection import open_connection
from fennox.links.secure_shell.ssh_running import SshRunning, cut_off, feed_into
from fennox.links.secure_shell.standing_shell import COMMAND, StandingShell

_WINDOW = (
    6 * 1024 * 1024
)  # window size in bytes: with the library's 2 MB, every MB costs a round trip
_LONGEST_WORD = 100 * 1024  # bytes; Linux limits a program's argument to 128 KiB


async def connect(
    address: Address,
    credential: Credential,
    fingerprint: str | None,
    limit: float = 15,
    hops: Sequence[Hop] = (),
    dial: Dial | None = None,
) -> SshLink:
    """Connect and log in for commands, if needed through jump hosts (``hops``, nearest first).
    ``dial`` makes the first connection.
    """
    opened: list[asyncssh.SSHClientConnection] = []
    try:
        for hop in hops:
            through, _ = await open_connection(
                hop.address, hop.credential, hop.fingerprint, limit, _last(opened), dial
            )
            opened.append(through)
        connection, offered = await open_connection(
            address, credential, fingerprint, limit, _last(opened), dial
        )
        opened.append(connection)
        link = SshLink(opened, address, offered)
        if credential.become:
            await link.become(credential.become, credential.password)
    except BaseException:
        await _close(opened)
        raise
    return link


def _last(opened: list[asyncssh.SSHClientConnection]) -> asyncssh.SSHClientConnection | None:
    return opened[-1] if opened else None


async def _close(opened: list[asyncssh.SSHClientConnection]) -> None:
    for connection in reversed(opened):
        connection.abort()
        with contextlib.suppress(OSError, asyncssh.Error):
            await connection.wait_closed()


class SshLink:
    """One connection for all commands of a run. ``opened``: the connections it leads through,
    itself last.
    """

    def __init__(
        self, opened: list[asyncssh.SSHClientConnection], address: Address, fingerprint: str
    ) -> None:
        self._opened = opened
        self._connection = opened[-1]
        self._address = address
        self._before: list[str] = []  # words before every command
        self._said_first: bytes = b""  # input for the command before it
        self._spoilt = False  # something failed on it, so a command may still be running over there
        self.language: ShellLanguage = "posix"
        self.secrets: Mapping[str, str | None] = {}
        self.beside: SecondLink | None = None
        self.fingerprint = fingerprint
        self.since = time.monotonic()
        self.stays = False  # it serves several runs, so a standing shell pays off
        self._shell: StandingShell | None = None
        self.closer: Callable[[SshLink], Awaitable[None]] = SshLink.disconnect

    async def become(self, account: str, password: str | None) -> None:
        """Run every command as another account through sudo: without a password, or with the
        login's own.
        """
        plain = ["sudo", "-n", "-u", account, "--"]
        if (await self.run([*plain, "true"])).code == 0:
            self._before = plain
            return
        if password is not None:
            # -k with a command: sudo asks for the password every time, so exactly one line of input
            # is consumed
            self._before, self._said_first = (
                ["sudo", "-k", "-S", "-p", "", "-u", account, "--"],
                f"{password}\n".encode(),
            )
            if (await self.run(["true"])).code == 0:
                return
            self._before, self._said_first = [], b""
        raise WrongLogin(
            f"The login may not become {account} on {self._address} by sudo.",
            "Allow it in the sudoers file there, without a password or with the login's own.",
        )

    async def _start(self, words: list[str], feed: AsyncIterator[bytes] | None) -> SshRunning:
        if self.language == "powershell" and feed is not None:
            raise FarSideFailed(
                "A document cannot be fed to a command of PowerShell.", "Fix the kind file."
            )
        line = (
            shlex.join([*self._before, *words])
            if self.language == "posix"
            else in_powershell(words)
        )
        return await self._start_line(line, feed)

    async def _start_line(
        self, line: str, feed: AsyncIterator[bytes] | None, mark: str = ""
    ) -> SshRunning:
        process = await self._process(line)
        return SshRunning(
            process,
            self._address,
            asyncio.create_task(feed_into(process, self._said_first, feed)),
            mark,
        )

    async def run(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None, limit: float = 60
    ) -> Output:
        try:
            async with (
                asyncio.timeout(limit),
                self._running(self._start(words, feed)) as running,
            ):
                try:
                    return await self._kept(running, words[0])
                except Unreachable:
                    running.raise_if_not_fed()
                    raise
        except TimeoutError as error:
            raise self._too_slow(words[0], limit) from error

    async def ask(self, questions: Sequence[list[str]], *, limit: float = 60) -> list[Output]:
        outputs: list[Output] = []
        asking = iter(questions)
        now: list[str] = []
        try:
            async with asyncio.timeout(limit), self.series(questions) as answers:
                now = next(asking, now)
                async for running in answers:
                    outputs.append(await self._kept(running, now[0]))
                    now = next(asking, now)
        except TimeoutError as error:
            raise self._too_slow(now[0], limit) from error
        return outputs

    @asynccontextmanager
    async def series(
        self, questions: Sequence[list[str]], *, heard: Collection[int] = ()
    ) -> AsyncIterator[AsyncIterator[Running]]:
        mark = secrets.token_hex(16)
        line = script(questions, heard, self._before, mark)
        if self.stays and questions and self.language == "posix" and not self._said_first:
            async with self._turn(line, mark, len(questions), heard) as answers:
                yield answers
            return
        if (
            len(questions) < 2
            or self.language != "posix"
            or self._said_first
            or len(line) > _LONGEST_WORD
        ):
            async with contextlib.aclosing(self._one_by_one(questions)) as answers:
                yield answers
            return
        async with self._running(
            self._start_line(shlex.join(["sh", "-c", line]), None, mark)
        ) as running:
            yield running.answers(len(questions), heard)

    @asynccontextmanager
    async def _turn(
        self, line: str, mark: str, count: int, heard: Collection[int]
    ) -> AsyncIterator[AsyncIterator[Running]]:
        """Uses the standing shell, started on first use."""
        shell = self._shell
        if shell is None or not shell.waits:
            shell = self._shell = StandingShell(
                await self._process(COMMAND), cut_off(self._address)
            )
        try:
            async with shell.turn(line, mark, count, heard) as answers:
                yield answers
        except BaseException:
            self._spoilt = self._spoilt or not shell.waits
            raise

    async def _process(self, line: str) -> asyncssh.SSHClientProcess[bytes]:
        try:
            return await self._connection.create_process(
                line, encoding=None, max_pktsize=131072, window=_WINDOW
            )
        except (OSError, asyncssh.Error) as error:
            raise cut_off(self._address) from error

    async def _one_by_one(self, questions: Sequence[list[str]]) -> AsyncGenerator[Running, None]:
        for words in questions:
            async with self.stream(words) as running:
                yield running

    async def _kept(self, running: Running, name: str) -> Output:
        """A command's whole output; ``name``: of the command, for errors."""
        kept = bytearray()
        async for block in running.blocks():
            kept += block
            if len(kept) > MAX_OUTPUT:
                raise FarSideFailed(
                    f"{name} on {self._address} writes without end.", "Check the machine."
                )
        done = await running.ended()
        return Output(done.code, bytes(kept), done.errors)

    def _too_slow(self, name: str, limit: float) -> FarSideFailed:
        return FarSideFailed(
            f"{name} on {self._address} did not end within {limit:g} s.", "Check the machine."
        )

    @asynccontextmanager
    async def stream(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None
    ) -> AsyncIterator[Running]:
        async with self._running(self._start(words, feed)) as running:
            yield running

    @asynccontextmanager
    async def _running(
        self, starting: Coroutine[None, None, SshRunning]
    ) -> AsyncIterator[SshRunning]:
        running = await starting
        try:
            yield running
        except BaseException:
            self._spoilt = self._spoilt or not running.over
            raise
        finally:
            await running.abandon()

    @asynccontextmanager
    async def files(self) -> AsyncIterator[SftpFiles]:
        if self._before:
            raise FarSideFailed(
                f"{self._address} has no GNU tar, and SFTP cannot become another account.",
                "Install tar there, or log in as the account that may read the files.",
            )
        try:
            client = await self._connection.start_sftp_client(path_encoding=None)
        except (OSError, asyncssh.Error) as error:
            raise FarSideFailed(
                f"{self._address} has no GNU tar and no SFTP, so that its files cannot be reached.",
                "Install tar there, or allow SFTP.",
            ) from error
        async with client:
            yield SftpFiles(client, self._address)

    async def is_there(self, limit: float) -> bool:
        """Whether the far side still answers (RFC 4254 §4); starts nothing over there."""
        before, self._spoilt = self._spoilt, True  # until it answers
        with contextlib.suppress(TimeoutError, OSError, asyncssh.Error):
            async with asyncio.timeout(limit):
                # the library's keepalive does not report to us
                await self._connection._make_global_request(b"keepalive@openssh.com")
            self._spoilt = before
        return self.usable

    @property
    def usable(self) -> bool:
        """Whether it can serve another run."""
        return not self._spoilt and not any(connection.is_closed() for connection in self._opened)

    async def close(self) -> None:
        if self.beside is not None:
            await self.beside.close()
        await self.closer(self)

    async def disconnect(self) -> None:
        await _close(self._opened)
