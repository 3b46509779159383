"""A real service on loopback for tests: its own database, its own process, a signed-in client."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx

from fennox.client.api import Client, ProblemError
from fennox.wire.access import NewUser, Role
from fennox.wire.watch.runs import RunShown
from tests import programs
from tests.programs import Program

PASSWORD = "four quiet boats at dawn"
FIRST_PASSWORD, OTHER_PASSWORD = "nine lanterns under a bridge", "six anchors in the fog bank"
PASSPHRASE = "grey gulls over holm island"

_asking = httpx.Client(trust_env=False)  # one for all: to make one reads every authority there is


def until(holds: Callable[[], bool], what: str, limit: float = 180) -> None:
    """Wait for a condition; never for a time. Asking costs the service as much as a call does, so
    it is asked less often the longer it takes.
    """
    end, pause = time.monotonic() + limit, 0.03
    while not holds():
        if time.monotonic() > end:
            raise AssertionError(f"it never came to be that {what}")
        time.sleep(pause)
        pause = min(pause * 1.3, 0.25)


def came_to(run: Any, fact: str) -> Any:
    """One fact of what came of a run, of whatever kind it is."""
    return getattr(run.result, fact)


@dataclass
class Service:
    """One service; ``start`` may be called again after a kill."""

    folder: Path
    database: str
    host: str
    port: int
    slots: int = 2
    lease: float = 30
    token: str = ""
    further: dict[str, str] = field(default_factory=dict)  # settings, as the environment has them
    public: str = ""  # the address that people use, if it is another one
    _process: Program | None = field(default=None, repr=False)
    _workers: list[Program] = field(default_factory=list, repr=False)

    @property
    def address(self) -> str:
        return f"http://{self.host}:{self.port}"

    def environment(self) -> dict[str, str]:
        return {
            **{name: value for name, value in os.environ.items() if not name.startswith("FENNOX_")},
            "FENNOX_DATABASE": self.database,
            "FENNOX_STATE": str(self.folder / "state"),
            "FENNOX_HOST": self.host,
            "FENNOX_PORT": str(self.port),
            "FENNOX_WORKERS": str(self.slots),
            "FENNOX_LEASE_SECONDS": str(self.lease),
            "FENNOX_WEAK_SLOTS": "1",
            "FENNOX_LOG": "json",
            **({"FENNOX_PUBLIC_ADDRESS": self.public} if self.public else {}),
            **self.further,
            "FENNOX_STRICT_SESSIONS": "1",
            "XDG_CONFIG_HOME": str(self.folder / "config"),
            "NO_COLOR": "1",
            "COLUMNS": "200",
            "TZ": "UTC",
        }

    @property
    def process(self) -> int:
        """Its number."""
        assert self._process is not None
        return self._process.pid

    @property
    def log(self) -> str:
        return (self.folder / "log").read_text()

    def start(self) -> None:
        log = self.folder / "log"
        log.touch()
        self._process = programs.start(
            ["serve"], self.environment(), self.folder, said=log, wrong=log
        )
        until(self.is_ready, f"the service is ready: {self.log[-2000:]}")

    def is_ready(self) -> bool:
        assert self._process is not None
        assert self._process.poll() is None, self.log[-3000:]
        return self.answers()

    def answers(self) -> bool:
        try:
            return _asking.get(f"{self.address}/readyz").status_code == 200
        except httpx.HTTPError:
            return False

    def set_up(self) -> None:
        """Make the first administrator with the code from the log."""
        codes = [json.loads(line)["link"] for line in self.log.splitlines() if '"link"' in line]
        with Client(self.address) as client:
            self.token = (
                client.first_user(codes[-1].split("#")[1], "harbour-admin", PASSWORD).token or ""
            )

    def start_worker(self, slots: int = 2) -> Program:
        environment = {**self.environment(), "FENNOX_WORKERS": str(slots)}
        log = self.folder / "worker-log"
        worker = programs.start(["worker", "run"], environment, self.folder, said=log, wrong=log)
        self._workers.append(worker)
        return worker

    def resident(self) -> float:
        """Memory of the service's own process now, in MB."""
        assert self._process is not None
        status = Path(f"/proc/{self._process.pid}/status").read_text()
        return int(status.split("VmRSS:")[1].split()[0]) / 1024

    def kill(self) -> None:
        if self._process is not None:
            self._process.send_signal(signal.SIGKILL)
            self._process.wait()

    def stop(self) -> None:
        for process in (self._process, *self._workers):
            if process is not None and process.poll() is None:
                process.send_signal(signal.SIGCONT)
                process.kill()
                process.wait()

    def client(self) -> Client:
        return Client(self.address, self.token)

    def proved(self) -> Client:
        """As :meth:`client`, by somebody who has just proved who they are: a service that many
        tests share lives longer than a proof counts.
        """
        made = self.client()
        made.prove(PASSWORD)
        return made

    def another(self, name: str, role: Role, **narrow: object) -> Client:
        """Somebody else, who has chosen their own password and proved who they are."""
        given = {"name": name, "role": role, "password": FIRST_PASSWORD, **narrow}
        with self.client() as client:
            client.add_user(NewUser.model_validate(given))
            signed = client.sign_in(name, FIRST_PASSWORD)
        made = Client(self.address, signed.token)
        made.change_password(FIRST_PASSWORD, OTHER_PASSWORD)
        return made

    def ended(self, run: str, limit: float = 300) -> RunShown:
        """The run, once it has ended or waits for a person."""
        with self.client() as client:
            seen: list[RunShown] = []

            def has_ended() -> bool:
                try:
                    seen.append(client.run(run))
                except ProblemError as error:
                    if (
                        error.slug != "try-later"
                    ):  # as while the database comes back, or on a machine that stands still
                        raise
                    return False
                return seen[-1].state not in ("queued", "running")

            until(has_ended, f"run {run} has ended", limit)
            return seen[-1]

    def fennox(self, *words: str, given: str = "") -> subprocess.CompletedProcess[str]:
        """Run the command line as a user does."""
        environment = {**self.environment(), "FENNOX_URL": self.address, "FENNOX_TOKEN": self.token}
        return programs.run(words, environment, self.folder, given=given)

    def file(self, name: str, text: str) -> str:
        path = self.folder / name
        path.write_text(text)
        return str(path)
