"""Appliances for tests, each a process of its own at an address of its own."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from saltmere.skerry import Skerry
from tests.places import free_port, loopback

Place = Callable[..., Skerry]


@pytest.fixture
def place(tmp_path: Path) -> Iterator[Place]:
    """Put up a freshly installed appliance, perhaps with the disks of another, or of another
    version.
    """
    made: list[Skerry] = []

    def put_up(disks: Path | None = None, version: str = "") -> Skerry:
        host = loopback()
        folder = tmp_path / f"skerry-{len(made)}"
        appliance = Skerry(folder, host, free_port(host), data=disks, version=version)
        made.append(appliance)
        appliance.start()
        return appliance

    yield put_up
    for appliance in made:
        appliance.stop()
