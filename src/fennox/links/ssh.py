"""Commands over SSH (RFC 4251 to 4254), by asyncssh."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import re
import shlex
import socket
from collections.abc import AsyncGenerator, AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from typing import Any

import asyncssh

from fennox.core.errors import FarSideFailed, FennoxError, KeyUnknown, Unreachable, WrongLogin
from fennox.core.names import printable
from fennox.links.base import MAX_OUTPUT, Address, Credential, Dial, Hop, Output, Running, ShellLanguage
from fennox.links.sftp import SftpFiles
from fennox.links.tls import key_changed

_QUOTES = re.compile("(['\u2018\u2019\u201a\u201b])")  # PowerShell takes each of them for the end of a text
_PARAMETER = re.compile(r"-[A-Za-z][A-Za-z0-9]*")
_BLOCK = 256 * 1024  # bytes
_MAX_ERRORS = 16 * 1024  # bytes of standard error that are kept


HOST_AUTHORITY = "ca:"  # before the fingerprint of an authority whose host certificates are accepted
_CERTIFICATES = [
    "ssh-ed25519-cert-v01@openssh.com",
    "ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "ecdsa-sha2-nistp384-cert-v01@openssh.com",
    "ecdsa-sha2-nistp521-cert-v01@openssh.com",
    "rsa-sha2-512-cert-v01@openssh.com",
    "rsa-sha2-256-cert-v01@openssh.com",
]
_NO_CERTIFICATES = "-*-cert-v01@openssh.com"  # a host that has one also shows the key that was accepted
_CIPHERS = "^aes256-gcm@openssh.com,aes128-gcm@openssh.com"  # one call a packet, where the library's first needs three

_COMPRESSED = ["zlib@openssh.com", "none"]  # what a worker at a site passes on crosses slow lines


class _KeyCheck(asyncssh.SSHClient):
    """Accepts exactly one host key and remembers the one that was offered."""

    def __init__(self, expected: str | None) -> None:
        self.expected = expected
        self.offered = ""

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        self.offered = key.get_fingerprint("sha256")
        return self.offered == self.expected

    def validate_host_ca_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        """The authority that signed the host's certificate; the library holds names and dates against it."""
        self.offered = HOST_AUTHORITY + key.get_fingerprint("sha256")
        return self.offered == self.expected


def _key_error(check: _KeyCheck, address: Address) -> FennoxError:
    if check.expected is None:
        return KeyUnknown(
            f"{address} shows the host key {check.offered}, which nobody has accepted yet.",
            "Compare it with the machine's own, then accept it.",
            fingerprint=check.offered,
        )
    return key_changed(address, "host key", check.offered, check.expected)


async def connect(
    address: Address,
    credential: Credential,
    fingerprint: str | None,
    limit: float = 15,
    hops: Sequence[Hop] = (),
    dial: Dial | None = None,
) -> SshLink:
    """Connect and log in for commands, through other machines if need be (``hops``, the nearest first).

    ``dial`` makes the first of these connections.
    """
    opened: list[asyncssh.SSHClientConnection] = []
    try:
        for hop in hops:
            through, _ = await open_connection(hop.address, hop.credential, hop.fingerprint, limit, _last(opened), dial)
            opened.append(through)
        connection, offered = await open_connection(address, credential, fingerprint, limit, _last(opened), dial)
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


async def open_connection(
    address: Address,
    credential: Credential,
    fingerprint: str | None,
    limit: float = 15,
    through: asyncssh.SSHClientConnection | None = None,
    dial: Dial | None = None,
) -> tuple[asyncssh.SSHClientConnection, str]:
    """Connect and log in; nothing of the credential is sent before the host key was found to be the accepted one."""
    check = _KeyCheck(fingerprint)
    by_authority = fingerprint is not None and fingerprint.startswith(HOST_AUTHORITY)
    async with _keys(credential) as keys:
        way: dict[str, Any] = {"tunnel": through or ()}
        if dial is not None and through is None:
            way = {"sock": await _dialled(dial, address, limit), "compression_algs": _COMPRESSED}
        return await _connected(address, credential, keys, check, by_authority, limit, way), check.offered


async def _dialled(dial: Dial, address: Address, limit: float) -> socket.socket:
    try:
        return await asyncio.wait_for(dial(address), limit)
    except (OSError, TimeoutError) as error:
        reason = printable(str(error))[:200] or "no answer"
        raise Unreachable(f"{address} cannot be reached: {reason}.", "Check address, port and network.") from error


async def _connected(
    address: Address,
    credential: Credential,
    keys: Sequence[object] | None,
    check: _KeyCheck,
    by_authority: bool,
    limit: float,
    way: Mapping[str, Any],
) -> asyncssh.SSHClientConnection:
    try:
        return await asyncio.wait_for(
            asyncssh.connect(
                address.host,
                address.port,
                username=credential.account,
                password=credential.password,
                client_keys=keys,
                client_factory=lambda: check,
                known_hosts=([], [], []),
                server_host_key_algs=_CERTIFICATES if by_authority else _NO_CERTIFICATES,
                encryption_algs=_CIPHERS,
                agent_path=None,
                **way,
                config=None,
                keepalive_interval=15,
            ),
            limit,
        )
    except asyncssh.HostKeyNotVerifiable as error:
        raise _key_error(check, address) from error
    except asyncssh.PermissionDenied as error:
        raise WrongLogin(
            f"{address} refuses the account {credential.account}.", "Check the login's account and its key or password."
        ) from error
    except (OSError, TimeoutError, asyncssh.Error) as error:
        reason = printable(str(error))[:200] or type(error).__name__
        raise Unreachable(
            f"{address} cannot be reached by SSH: {reason}.", "Check address, port and network."
        ) from error


@asynccontextmanager
async def _keys(credential: Credential) -> AsyncIterator[Sequence[object] | None]:
    """The keys to log in with; those of an agent only while it is asked to sign."""
    if credential.agent is None:
        yield _own_keys(credential)
        return
    try:
        agent = await asyncssh.connect_agent(credential.agent)
        keys = await agent.get_keys()
    except (OSError, ValueError, asyncssh.Error) as error:
        raise Unreachable(
            f"The SSH agent at {credential.agent} does not answer.", "Start it where the workers run, and add the key."
        ) from error
    try:
        yield keys
    finally:
        agent.close()


def _own_keys(credential: Credential) -> list[object] | None:
    if credential.private_key is None:
        return None
    try:
        key = asyncssh.import_private_key(credential.private_key)
        if not credential.certificate:
            return [key]
        return [(key, asyncssh.import_certificate(credential.certificate))]
    except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError) as error:
        raise WrongLogin(
            "The login's private key or its certificate cannot be read.", "Give an unencrypted OpenSSH key."
        ) from error


class _SshRunning:
    def __init__(self, process: asyncssh.SSHClientProcess[bytes], address: Address) -> None:
        self._process = process
        self._address = address
        self._errors = asyncio.create_task(_bounded(process.stderr))

    async def blocks(self) -> AsyncGenerator[bytes, None]:
        try:
            while block := await self._process.stdout.read(_BLOCK):
                yield block
        except (OSError, asyncssh.Error) as error:
            raise _cut(self._address) from error

    async def ended(self) -> Output:
        errors = await self._errors
        await self._process.wait_closed()
        code = self._process.exit_status
        if code is None:
            raise _cut(self._address)
        return Output(code, b"", errors)

    async def abandon(self) -> None:
        self._process.close()
        self._errors.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await self._errors


class SshLink:
    """One connection, kept for all commands of a run. ``opened``: those it leads through, and itself as the last."""

    def __init__(self, opened: list[asyncssh.SSHClientConnection], address: Address, fingerprint: str) -> None:
        self._opened = opened
        self._connection = opened[-1]
        self._address = address
        self._before: list[str] = []  # words before every command
        self._said_first: bytes = b""  # what the command before it reads
        self.language: ShellLanguage = "posix"
        self.fingerprint = fingerprint

    async def become(self, account: str, password: str | None) -> None:
        """Have every command run as another account, by sudo: without a password, else with the login's own."""
        plain = ["sudo", "-n", "-u", account, "--"]
        if (await self.run([*plain, "true"])).code == 0:
            self._before = plain
            return
        if password is not None:
            # -k with a command: the password is asked for every time, so that exactly one line of input is its
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

    async def _start(
        self, words: list[str], feed: AsyncIterator[bytes] | None
    ) -> tuple[_SshRunning, asyncio.Task[None]]:
        if self.language == "powershell" and feed is not None:
            raise FarSideFailed("A document cannot be fed to a command of PowerShell.", "Mend the kind file.")
        line = shlex.join([*self._before, *words]) if self.language == "posix" else in_powershell(words)
        process = await self._connection.create_process(line, encoding=None, max_pktsize=131072)
        running = _SshRunning(process, self._address)
        return running, asyncio.create_task(_feed(process, self._said_first, feed))

    async def run(self, words: list[str], *, feed: AsyncIterator[bytes] | None = None, limit: float = 60) -> Output:
        try:
            async with asyncio.timeout(limit):
                return await self._run(words, feed)
        except TimeoutError as error:
            raise FarSideFailed(
                f"{words[0]} on {self._address} did not end within {limit:g} seconds.", "Look at the machine."
            ) from error
        except (OSError, asyncssh.Error) as error:
            raise _cut(self._address) from error

    async def _run(self, words: list[str], feed: AsyncIterator[bytes] | None) -> Output:
        running, feeder = await self._start(words, feed)
        try:
            kept = bytearray()
            async for block in running.blocks():
                kept += block
                if len(kept) > MAX_OUTPUT:
                    raise FarSideFailed(f"{words[0]} on {self._address} writes without end.", "Look at the machine.")
            done = await running.ended()
            await feeder
            return Output(done.code, bytes(kept), done.errors)
        finally:
            feeder.cancel()
            await running.abandon()

    @asynccontextmanager
    async def stream(self, words: list[str], *, feed: AsyncIterator[bytes] | None = None) -> AsyncIterator[Running]:
        try:
            running, feeder = await self._start(words, feed)
        except (OSError, asyncssh.Error) as error:
            raise _cut(self._address) from error
        try:
            yield running
        finally:
            feeder.cancel()
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

    async def close(self) -> None:
        await _close(self._opened)


def in_powershell(words: Sequence[str]) -> str:
    """A command line for a machine whose shell is PowerShell or cmd.exe, as OpenSSH on Windows has them.

    The command goes as UTF-16 in base64, so that neither shell reads anything in it. Words are literal texts but for
    names of parameters (``-Path``), which PowerShell knows by their standing bare.
    """
    quoted = [word if _PARAMETER.fullmatch(word) else "'" + _QUOTES.sub(r"\1\1", word) + "'" for word in words]
    script = (
        "$ProgressPreference='SilentlyContinue'; $ErrorActionPreference='Stop'; $LASTEXITCODE=0; "
        f"[Console]::OutputEncoding=[Text.Encoding]::UTF8; & {' '.join(quoted)}; exit $LASTEXITCODE"
    )
    encoded = base64.b64encode(script.encode("utf-16-le")).decode("ascii")
    return f"powershell -NoProfile -NonInteractive -EncodedCommand {encoded}"


async def _feed(process: asyncssh.SSHClientProcess[bytes], first: bytes, feed: AsyncIterator[bytes] | None) -> None:
    try:
        if first:
            process.stdin.write(first)
        if feed is not None:
            async for block in feed:
                process.stdin.write(block)
                await process.stdin.drain()
        process.stdin.write_eof()
    except (BrokenPipeError, ConnectionError, asyncssh.Error):
        return  # the command ended before it read everything; its exit code tells why


async def _bounded(reader: asyncssh.SSHReader[bytes]) -> str:
    kept = b""
    while block := await reader.read(4096):
        kept = (kept + block)[:_MAX_ERRORS]
    return printable(kept.replace(b"\n", b" | ")).strip(" |")


def _cut(address: Address) -> Unreachable:
    return Unreachable(f"The connection to {address} was cut.", "Try again; look at the machine if it happens twice.")
