"""Two services and four workers on one database, killed, paused and restarted at random, PostgreSQL
among them.
"""

from __future__ import annotations

import logging
import random
import signal
import time
from collections import Counter, defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import timedelta
from itertools import pairwise
from pathlib import Path

import private_postgres
import pytest

from fennox.client.api import OutOfReachError, ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.watch.runs import RunShown
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.programs import Program
from tests.service.conftest import enrol
from tests.service.running import Service, until

log = logging.getLogger(__name__)
SYSTEMS = ("web-9", "quay-2", "holm-1")
ENDED = ("done", "failed", "stopped")


NOTED_BEFORE = timedelta(milliseconds=100)


@dataclass
class Disturbed:
    services: list[Service]
    postgres: Path
    chance: random.Random
    workers: list[Program] = field(default_factory=list)
    asleep: list[Program] = field(default_factory=list)
    accepted: set[str] = field(default_factory=set)
    disturbed: Counter[str] = field(default_factory=Counter)

    def ask(self) -> None:
        """Ask for a take of every system at one of the services, which may be away or refuse."""
        with self.chance.choice(self.services).client() as client:
            for system in SYSTEMS:
                try:
                    self.accepted.add(client.take(NewTake(system=system)).id)
                except (ProblemError, OutOfReachError):
                    self.disturbed["refused"] += (
                        1  # a run is active, or nobody answers: nothing was accepted
                    )

    def disturb(self) -> None:
        acts = [
            self.kill_worker,
            self.kill_worker,
            self.pause_worker,
            self.kill_service,
            self.restart_database,
        ]
        act = self.chance.choice(acts)
        act()
        self.disturbed[act.__name__] += 1

    def kill_worker(self) -> None:
        victim = self.workers.pop(self.chance.randrange(len(self.workers)))
        assert victim.poll() is None, "a worker does not end by itself"
        victim.send_signal(signal.SIGKILL)
        self.workers.append(self.services[0].start_worker())

    def pause_worker(self) -> None:
        """It sleeps past its lease; the one that slept before wakes up."""
        self.wake()
        sleeper = self.chance.choice(self.workers)
        sleeper.send_signal(signal.SIGSTOP)
        self.asleep.append(sleeper)

    def wake(self) -> None:
        while self.asleep:
            sleeper = self.asleep.pop()
            if sleeper.poll() is None:
                sleeper.send_signal(signal.SIGCONT)

    def kill_service(self) -> None:
        service = self.chance.choice(self.services)
        service.kill()
        service.start()

    def restart_database(self) -> None:
        private_postgres.stop(self.postgres, "immediate")
        private_postgres.start(self.postgres, sync=False)

    def something_ends(self, limit: float) -> None:
        """Until one more run has ended, or for a while."""
        before, end = self._ended(), time.monotonic() + limit
        until(lambda: time.monotonic() > end or self._ended() > before, "a while is over")

    def _ended(self) -> int:
        try:
            with self.services[0].client() as client:
                return sum(run.state in ENDED for run in client.runs())
        except (ProblemError, OutOfReachError):
            return -1


@pytest.mark.long
def test_no_run_is_lost_and_none_is_done_twice(
    service: Service,
    install: Callable[..., LinuxServer],
    key_pair: tuple[str, str],
    postgres: Path,
    request: pytest.FixtureRequest,
) -> None:
    seed = random.randrange(2**32)
    log.info("seed %d", seed)
    service.stop()
    service.slots, service.lease = 0, 2
    service.start()
    servers = [install(name) for name in SYSTEMS]
    for server in servers:
        server.configure("vessels", files=100)
    enrol(service, servers[0], key_pair[0])
    with service.client() as client:
        for name, server in zip(SYSTEMS[1:], servers[1:], strict=True):
            client.add_system(
                NewSystem(
                    name=name,
                    kind="linux-server",
                    address=f"{server.host}:{server.port}",
                    login="quay-root",
                    key=server.host_key,
                    settings={"ssh-restart": SSH_RESTART},
                )
            )
    second = Service(
        service.folder, service.database, service.host, service.port + 1, 0, 2, service.token
    )
    second.start()
    at = Disturbed([service, second], postgres, random.Random(seed))
    try:
        at.workers = [service.start_worker(slots=1) for _ in range(4)]
        end = time.monotonic() + request.config.getoption("--disturbed")
        while time.monotonic() < end:
            at.ask()
            at.disturb()
            at.something_ends(3)
        at.wake()
        until(lambda: not _active(service), "every run has ended", 300)
        with service.client() as client:
            calm = [client.take(NewTake(system=system)).id for system in SYSTEMS]
        assert {service.ended(run).state for run in calm} == {"done"}, "nothing is stuck"
        at.accepted |= set(calm)
        check(at, service)
    finally:
        at.wake()
        second.stop()


def _active(service: Service) -> bool:
    with service.client() as client:
        try:
            return client.runs(state="active") != []
        except ProblemError as error:
            if error.slug != "try-later":  # as while the database comes back
                raise
            return True


def check(at: Disturbed, service: Service) -> None:
    runs = [service.ended(run) for run in sorted(at.accepted)]
    assert {run.state for run in runs} <= {"done", "failed"}, (
        "every run that was accepted has ended"
    )
    assert all(run.reason for run in runs if run.state == "failed")
    done = {str(run.backup) for run in runs if run.state == "done"}
    assert len(done) == sum(run.state == "done" for run in runs)
    with service.client() as client:
        assert {backup.id for backup in client.backups()} == done
    there = Counter(
        path.stem.rsplit(".", 1)[-1] for path in (service.folder / "attic/systems").glob("*/*.fxr")
    )
    log.info("%d runs, %d backups; %s", len(runs), len(done), dict(at.disturbed))
    assert {backup[:8] for backup in done} <= set(there)
    assert set(there.values()) == {1}, "no record is there twice"
    by_system: dict[str, list[RunShown]] = defaultdict(list)
    for run in runs:
        by_system[str(run.system)].append(run)
    for mine in by_system.values():
        mine.sort(key=lambda run: run.created)
        for earlier, later in pairwise(mine):
            assert earlier.ended is not None
            assert later.started is not None
            # a worker notes the time before the statement that may have to wait for the other
            assert earlier.ended <= later.started + NOTED_BEFORE, "one at a time"
