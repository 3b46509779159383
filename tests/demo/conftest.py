from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from saltmere.appliance import RunningAppliance
from saltmere.appliance_server import ApplianceServer
from tests.demo.sftp_place import sftp
from tests.engine.conftest import install, key_pair
from tests.places import free_port, loopback

__all__ = ["install", "key_pair", "sftp"]

InstallAppliance = Callable[..., ApplianceServer]
LaunchAppliance = Callable[..., RunningAppliance]


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """They change with the demo alone: `make appliances` runs them."""
    here = Path(__file__).parent
    for item in items:
        if here in item.path.parents:
            item.add_marker("appliance")


@pytest.fixture
def install_appliance(tmp_path: Path, key_pair: tuple[str, str]) -> Iterator[InstallAppliance]:
    """Install and start appliances that are Linux servers, each at an address of its own."""
    made: list[ApplianceServer] = []

    def make(appliance: type[ApplianceServer], **more: object) -> ApplianceServer:
        host = loopback()
        folder = tmp_path / f"{appliance.program}-{len(made)}"
        server = appliance(folder, host, free_port(host), **more)  # type: ignore[arg-type]
        server.install(appliance.program, key_pair[1])
        made.append(server)
        server.start()
        return server

    yield make
    for server in made:
        server.stop()


@pytest.fixture
def launch_appliance(tmp_path: Path) -> Iterator[LaunchAppliance]:
    """Install and start appliances with an HTTPS interface, each at an address of its own."""
    made: list[RunningAppliance] = []

    def make(appliance: type[RunningAppliance], **more: object) -> RunningAppliance:
        host = loopback()
        folder = tmp_path / f"{appliance.program}-{len(made)}"
        machine = appliance(folder, host, free_port(host), **more)  # type: ignore[arg-type]
        made.append(machine)
        machine.start()
        return machine

    yield make
    for machine in made:
        machine.stop()
