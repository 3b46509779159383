"""Machines whose clocks a test sets: real processes under Debian's libfaketime, each with an offset of its own."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import dataclass, field
from pathlib import Path

from tests.service.running import Service, until

LIBRARY = next(Path("/usr/lib").glob("*/faketime/libfaketimeMT.so.1"), None)


@dataclass(frozen=True)
class FakedClock:
    """The clock of one machine. Its file holds how far it is from the true one, in the words of libfaketime."""

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
    """A service and its worker as processes of their own, each on a machine with a clock that is set."""

    clocks: dict[str, FakedClock] = field(default_factory=dict)

    def start(self) -> None:
        self._process = self._begin("serve", self.clocks["service"])  # type: ignore[assignment]
        until(self.is_ready, f"the service is ready: {self.log[-2000:]}")

    def start_faked_worker(self) -> None:
        self._workers.append(self._begin("worker", self.clocks["worker"], "run", FENNOX_WORKERS="2"))  # type: ignore[arg-type]

    def _begin(self, noun: str, clock: FakedClock, *words: str, **more: str) -> subprocess.Popen[bytes]:
        environment = {**self.environment(), **clock.environment(), **more}
        with (self.folder / "log").open("ab") as log:
            program = [sys.executable, "-m", "fennox.cli.main", noun, *words]
            return subprocess.Popen(program, env=environment, cwd=self.folder, stdout=log, stderr=log)
