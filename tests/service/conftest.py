from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.stores import NewLogin, NewStore
from saltmere.linux import SSH_RESTART, LinuxServer
from tests import statements
from tests.engine.conftest import install, key_pair
from tests.places import free_port, loopback
from tests.service.contexts import clock, context
from tests.service.running import PASSPHRASE, Service
from tests.warm import REAL_HASHES, cheapen_passwords

cheapen_passwords()
statements.share()

__all__ = ["clock", "context", "install", "key_pair"]


@pytest.fixture
def service(tmp_path: Path, database: str, request: pytest.FixtureRequest) -> Iterator[Service]:
    """A service with a first administrator and nothing else."""
    host = loopback()
    made = Service(tmp_path, database, host, free_port(host))
    if request.node.get_closest_marker("real_hashes"):
        made.further[REAL_HASHES] = "1"
    try:
        made.start()
        made.set_up()
        yield made
    finally:
        made.stop()


@contextmanager
def running(folder: Path, name: str, authorised_key: str) -> Iterator[LinuxServer]:
    """A server for more than one test."""
    host = loopback()
    made = LinuxServer(folder / name, host, free_port(host))
    made.install(name, authorised_key)
    made.configure("ticket", files=12)
    made.start()
    try:
        yield made
    finally:
        made.stop()


@pytest.fixture
def server(install: object) -> LinuxServer:
    made: LinuxServer = install("web-9")  # type: ignore[operator]
    made.configure("ticket", files=12)
    return made


@pytest.fixture
def longest(request: pytest.FixtureRequest) -> float:
    """Seconds that somebody may wait while others do their worst; held with ``--crowds``, when
    nothing else runs.
    """
    return 1 if request.config.getoption("--crowds") else 60


def enrol(
    service: Service,
    server: LinuxServer,
    private_key: str,
    *,
    custody: str = "kept",
    kind: str = "linux-server",
) -> None:
    """A store, a login and the system, as a user would make them."""
    folder = service.folder / "attic"
    folder.mkdir(exist_ok=True)
    with service.client() as client:
        client.add_store(
            NewStore(name="attic", address=str(folder), passphrase=PASSPHRASE, custody=custody)
        )
        client.add_login(NewLogin(name="quay-root", account="root", private_key=private_key))
        client.add_system(
            NewSystem(
                name="web-9",
                kind=kind,
                address=f"{server.host}:{server.port}",
                login="quay-root",
                key=server.host_key,
                settings={"ssh-restart": SSH_RESTART},
            )
        )
