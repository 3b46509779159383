"""Machines whose clocks a test sets: real processes under Debian's libfaketime, each with an offset
of its own.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from tests.database import url
from tests.places import free_port, loopback
from tests.service.running import Service, until

sys.path.insert(0, str(Path(__file__).parents[2] / "scripts"))
import private_postgres

LIBRARY = next(Path("/usr/lib").glob("*/faketime/libfaketimeMT.so.1"), None)


@dataclass(frozen=True)
class FakedClock:
    """The clock of one machine. Its file holds how far it is from the true one, in the words of
    libfaketime.
    """

    file: Path

    def set(self, offset: str) -> None:
        """``+365d``, ``-60s``, ``+0``; counts at once in every process of the machine."""
        self.file.write_text(f"{offset}\n")

    def environment(self) -> dict[str, str]:
        return {
            "LD_PRELOAD": str(LIBRARY),
            "FAKETIME_TIMESTAMP_FILE": str(self.file),
            "FAKETIME_NO_CACHE": "1",
            "FAKETIME_DONT_FAKE_MONOTONIC": "1",
        }


@dataclass
class FakedService(Service):
    """A service and its worker as processes of their own, each on a machine with a clock that is
    set.
    """

    clocks: dict[str, FakedClock] = field(default_factory=dict)

    machine: str = "service"  # whose clock it goes by

    def start(self) -> None:
        self._process = self._begin("serve", self.clocks[self.machine])  # type: ignore[assignment]
        until(self.is_ready, f"the service is ready: {self.log[-2000:]}")

    def start_faked_worker(self, slots: int = 2) -> subprocess.Popen[bytes]:
        made = self._begin("worker", self.clocks["worker"], "run", FENNOX_WORKERS=str(slots))
        self._workers.append(made)  # type: ignore[arg-type]
        return made

    def _begin(
        self, noun: str, clock: FakedClock, *words: str, **more: str
    ) -> subprocess.Popen[bytes]:
        environment = {**self.environment(), **clock.environment(), **more}
        with (self.folder / "log").open("ab") as log:
            program = [sys.executable, "-m", "fennox.cli.main", noun, *words]
            return subprocess.Popen(
                program, env=environment, cwd=self.folder, stdout=log, stderr=log
            )


@contextmanager
def machines(
    folder: Path,
    monkeypatch: pytest.MonkeyPatch,
    names: tuple[str, ...] = ("service", "database", "worker"),
) -> Iterator[tuple[FakedService, Path]]:
    """A service without slots of its own on a database of its own, and that database's folder;
    every clock is right.
    """
    place = Path(
        tempfile.mkdtemp(prefix="fennox-clocks-", dir="/tmp")
    )  # the database's account must be able to enter
    place.chmod(0o755)
    clocks = {name: FakedClock(place / name) for name in names}
    for clock in clocks.values():
        clock.set("+0")
        clock.file.chmod(0o644)
    cluster = place / "pg"
    start_database(cluster, clocks["database"], monkeypatch)
    host = loopback()
    made = FakedService(
        folder, url(cluster, "fennox"), host, free_port(host), slots=0, clocks=clocks
    )
    try:
        made.start()
        made.set_up()
        yield made, cluster
    finally:
        for clock in clocks.values():
            clock.set("+0")
        made.stop()
        private_postgres.stop(cluster, "immediate")
        shutil.rmtree(place, ignore_errors=True)


def start_database(cluster: Path, clock: FakedClock, monkeypatch: pytest.MonkeyPatch) -> None:
    with monkeypatch.context() as patch:
        for name, value in clock.environment().items():
            patch.setenv(name, value)
        private_postgres.start(cluster, sync=False)
