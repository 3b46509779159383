"""The machine that a site's worker runs on, read as ``here``: an SSH server that listens nowhere.

It uses one end of a socket pair whose other end the worker relays. Only the service gets there,
already authenticated by its certificate, so no further login is required, and commands run as the
worker's own account.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import os
import signal
import socket

import asyncssh
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

_KEY_FOR = b"fennox: the key of the machine that a site's worker runs on\n"
_BLOCK = 128 * 1024  # bytes


class OwnMachine:
    """Its host key is derived from the site's token, so it stays the same although nothing is
    stored.
    """

    def __init__(self, token: str) -> None:
        seed = hashlib.blake2b(_KEY_FOR, key=token.encode()[:64], digest_size=32).digest()
        private = Ed25519PrivateKey.from_private_bytes(seed)
        text = private.private_bytes(Encoding.PEM, PrivateFormat.OpenSSH, NoEncryption())
        self._key = asyncssh.import_private_key(text)
        self._serving: set[asyncio.Task[None]] = set()

    @property
    def fingerprint(self) -> str:
        return self._key.get_fingerprint("sha256")

    async def open(self) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        """A new connection to this machine."""
        ours, theirs = socket.socketpair()
        task = asyncio.create_task(self._serve(theirs))
        self._serving.add(task)
        task.add_done_callback(self._serving.discard)
        return await asyncio.open_connection(sock=ours)

    async def _serve(self, end: socket.socket) -> None:
        with contextlib.suppress(OSError, asyncssh.Error):  # the connecting side notices
            connection = await asyncssh.run_server(
                end,
                server_factory=_NobodyIsAsked,
                server_host_keys=[self._key],
                process_factory=_carry_out,
                sftp_factory=True,
                encoding=None,
                compression_algs=["zlib@openssh.com", "none"],
            )
            await connection.wait_closed()


class _NobodyIsAsked(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return False


async def _carry_out(process: asyncssh.SSHServerProcess[bytes]) -> None:
    if process.command is None:
        process.exit(1)  # terminals are not supported
        return
    child = await asyncio.create_subprocess_exec(
        "/bin/sh",
        "-c",
        process.command,
        stdin=asyncio.subprocess.PIPE,
        stdout=asyncio.subprocess.PIPE,
        stderr=asyncio.subprocess.PIPE,
        start_new_session=True,
    )
    talking = asyncio.create_task(_talk(process, child))
    leaving = asyncio.create_task(process.channel.wait_closed())
    try:
        await asyncio.wait([talking, leaving], return_when=asyncio.FIRST_COMPLETED)
    finally:
        talking.cancel()
        leaving.cancel()
        await asyncio.gather(talking, leaving, return_exceptions=True)
        if child.returncode is None:  # nobody receives it any more
            with contextlib.suppress(ProcessLookupError):
                os.killpg(child.pid, signal.SIGKILL)
            await child.wait()


async def _talk(
    process: asyncssh.SSHServerProcess[bytes], child: asyncio.subprocess.Process
) -> None:
    """Pass on input and output, and send the exit code once all of it is sent."""
    assert child.stdout is not None
    assert child.stderr is not None
    feeding = asyncio.create_task(_feed(process, child))
    try:
        await asyncio.gather(
            _pass_on(child.stdout, process.stdout), _pass_on(child.stderr, process.stderr)
        )
        code = await child.wait()
    finally:
        feeding.cancel()
    process.exit(code if code >= 0 else 128 - code)


async def _feed(
    process: asyncssh.SSHServerProcess[bytes], child: asyncio.subprocess.Process
) -> None:
    assert child.stdin is not None
    with contextlib.suppress(
        OSError, asyncssh.Error
    ):  # it ended before reading everything; its exit code shows why
        while block := await process.stdin.read(_BLOCK):
            child.stdin.write(block)
            await child.stdin.drain()
    child.stdin.close()


async def _pass_on(reader: asyncio.StreamReader, writer: asyncssh.SSHWriter[bytes]) -> None:
    while block := await reader.read(_BLOCK):
        writer.write(block)
        await writer.drain()
