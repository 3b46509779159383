from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import asyncssh
import pytest

from fennox.drop.logins import Doorkeeper, DropLogin, Pace, Sessions, digest_of
from fennox.drop.offers import Offers
from fennox.drop.sftp_server import SftpServer
from fennox.drop.spool import Limits, Spool
from fennox.service.foundation import key_file
from tests.places import free_port, loopback
from tests.service.running import until

SECRET = "grey-gull-over-holm-island"


@pytest.fixture
def spool(tmp_path: Path) -> Spool:
    keys = key_file.load(tmp_path / "state")
    return Spool(tmp_path / "drop", keys, lambda: datetime.now(UTC), Limits(free=0))


@pytest.fixture
def offers(tmp_path: Path, spool: Spool) -> Offers:
    return Offers(tmp_path / "offers", spool.seals, spool.now, Limits(free=0))


@pytest.fixture
def doorkeeper(offers: Offers) -> Doorkeeper:
    made = Doorkeeper(offered=offers.login)
    made.replace(
        [
            DropLogin("orlop-1", "system-1", digest_of(SECRET)),
            DropLogin("orlop-2", "system-2", digest_of("another")),
        ]
    )
    return made


@dataclass
class Served:
    spool: Spool
    doorkeeper: Doorkeeper
    host: str
    port: int
    server: SftpServer
    pace: Pace

    def connect(self, account: str = "orlop-1", secret: str = SECRET) -> Any:
        return asyncssh.connect(
            self.host,
            self.port,
            username=account,
            password=secret,
            known_hosts=None,
            client_keys=None,
            config=None,
            agent_path=None,
        )

    async def arrived(self, system: str = "system-1", count: int = 1) -> None:
        """Until so many files of the system have arrived whole."""
        jail = self.spool.jail(system)
        await asyncio.to_thread(
            until,
            lambda: sum(note.state == "arrived" for note in jail.notes()) >= count,
            f"{count} files have arrived",
            20,
        )


@pytest.fixture
async def served(spool: Spool, offers: Offers, doorkeeper: Doorkeeper) -> AsyncIterator[Served]:
    key = asyncssh.generate_private_key("ssh-ed25519").export_private_key().decode()
    host = loopback()
    port = free_port(host)
    pace = Pace()
    server = SftpServer(spool, offers, doorkeeper, Sessions(), pace, key)
    await server.start(host, port)
    try:
        yield Served(spool, doorkeeper, host, port, server, pace)
    finally:
        await server.close()
