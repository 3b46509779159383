"""A plain SFTP server as the place of an appliance's backups; Fennox is not involved."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from queue import Queue
from threading import Thread
from typing import Any

import asyncssh
import pytest

from tests.places import free_port, loopback

PLACE_ACCOUNT, PLACE_SECRET = "pusher", "made-up-place"


class _Door(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == (PLACE_ACCOUNT, PLACE_SECRET)


@dataclass
class SftpPlace:
    """A plain SFTP server as the place of backups."""

    folder: Path
    told: dict[str, Any]

    def files(self) -> dict[str, bytes]:
        return {path.name: path.read_bytes() for path in self.folder.iterdir()}


@pytest.fixture
def sftp(tmp_path: Path) -> Iterator[SftpPlace]:
    folder = tmp_path / "place"
    folder.mkdir()
    key = asyncssh.generate_private_key("ssh-ed25519")
    host = loopback()
    port = free_port(host)
    loops: Queue[tuple[asyncio.AbstractEventLoop, asyncio.Event]] = Queue()

    async def serve() -> None:
        stop = asyncio.Event()
        server = await asyncssh.listen(
            host,
            port,
            server_factory=_Door,
            server_host_keys=[key],
            sftp_factory=lambda chan: asyncssh.SFTPServer(chan, chroot=str(folder).encode()),
        )
        loops.put((asyncio.get_running_loop(), stop))
        await stop.wait()
        server.close()
        await server.wait_closed()

    thread = Thread(target=lambda: asyncio.run(serve()))
    thread.start()
    loop, stop = loops.get(timeout=20)
    told = {"host": host, "port": port, "account": PLACE_ACCOUNT, "secret": PLACE_SECRET}
    yield SftpPlace(folder, {**told, "key": key.get_fingerprint(), "folder": "/"})
    loop.call_soon_threadsafe(stop.set)
    thread.join(10)
