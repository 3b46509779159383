from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from saltmere.linux import LinuxServer, new_key_pair
from tests.places import free_port, loopback


@pytest.fixture(scope="session")
def key_pair() -> tuple[str, str]:
    return new_key_pair("quay-root")


@pytest.fixture
def install(tmp_path: Path, key_pair: tuple[str, str]) -> Iterator[Callable[[str], LinuxServer]]:
    """Install and start servers, each at an address of its own."""
    made: list[LinuxServer] = []

    def make(name: str, authorised_key: str = key_pair[1]) -> LinuxServer:
        host = loopback()
        server = LinuxServer(tmp_path / f"server-{len(made)}", host, free_port(host))
        server.install(name, authorised_key)
        made.append(server)
        server.start()
        return server

    yield make
    for server in made:
        server.stop()
