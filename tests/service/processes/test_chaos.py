"""Two services, their workers, five stores, and everything that can go wrong around them, drawn at
random.

Each fault stands until its sentence was read, and is then mended. At the end an independent reading
judges: every store is opened with the passphrase alone, and laid beside what the catalogue and the
runs said. `scripts/chaos` runs it for an hour with forty systems and four workers.
"""

from __future__ import annotations

import asyncio
import logging
import os
import random
import shutil
import signal
import subprocess
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack, suppress
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

import private_postgres
import psycopg
import pytest

from fennox.client.api import OutOfReachError, ProblemError
from fennox.engine.backups import opened_store, record_lists
from fennox.service.foundation.clock import real_now
from fennox.stores.folder import FolderStore
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.stores import NewLogin, NewStore
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.backups import read_back
from tests.service.conftest import enrol
from tests.service.faked import LIBRARY, FakedService, machines, start_database
from tests.service.relay import Relay
from tests.service.running import PASSPHRASE, until
from tests.stores import servers

log = logging.getLogger(__name__)

MANY = 600  # seconds from which on it is the long run
FOLDERS = ("attic", "pier", "quay", "loft")


@dataclass
class Chaos:
    service: FakedService
    second: FakedService
    cluster: Path
    relay: Relay
    depot: Path  # the folder behind the far store
    systems: list[str]
    servers: dict[str, LinuxServer]
    chance: random.Random
    monkeypatch: pytest.MonkeyPatch
    workers: list[subprocess.Popen[bytes]] = field(default_factory=list)
    accepted: set[str] = field(default_factory=set)
    faults: Counter[str] = field(default_factory=Counter)
    read: list[str] = field(default_factory=list)

    def folder(self, store: str) -> Path:
        return self.depot if store == "depot" else self.service.folder / store

    def take(self, system: str | None = None, store: str | None = None) -> str | None:
        """Ask for a take of a system that has changed; None: nobody answers, or it is refused."""
        name = system or self.chance.choice(self.systems)
        self.servers[name].write(
            "/etc/saltmere/ticket/000.conf", f"fare = {self.chance.random()}\n" * 40
        )
        try:
            with self.chance.choice((self.service, self.second)).client() as client:
                wanted = NewTake(
                    system=name,
                    store=store or self.chance.choice(("attic", "pier", "quay", "depot")),
                )
                run = client.take(wanted).id
        except (ProblemError, OutOfReachError):
            return None
        self.accepted.add(run)
        return run

    def told(self, *texts: str) -> bool:
        """Whether somebody who looks now reads one of these: among the concerns, or as the reason
        of a run.
        """
        with suppress(ProblemError, OutOfReachError), self.second.client() as client:
            read = [concern.text for concern in client.concerns()] + [
                run.reason for run in client.runs(limit=60)
            ]
            self.read = read
            return any(text in line for text in texts for line in read)
        return False

    def says(self, *texts: str, limit: float = 150) -> None:
        try:
            until(lambda: self.told(*texts), f"one reads {' or '.join(map(repr, texts))}", limit)
        except AssertionError as error:
            error.add_note("\n".join(["Read was:", *self.read]))
            raise

    # faults: each stands until its sentence was read

    def clock_of_the_service(self) -> None:
        self._wrong_clock("service")

    def clock_of_the_database(self) -> None:
        self._wrong_clock("database")

    def clock_of_the_workers(self) -> None:
        self._wrong_clock("worker")

    def _wrong_clock(self, machine: str) -> None:
        self.service.clocks[machine].set(self.chance.choice(("+365d", "+1d", "-1d", "-365d")))
        try:
            self.says("The clocks disagree")
            self.take()
        finally:
            self.service.clocks[machine].set("+0")

    def killed_worker(self) -> None:
        victim = self.workers.pop(self.chance.randrange(len(self.workers)))
        victim.send_signal(signal.SIGKILL)
        victim.wait()
        self.workers.append(self.service.start_faked_worker(slots=2))

    def paused_worker(self) -> None:
        sleeper = self.chance.choice(self.workers)
        sleeper.send_signal(signal.SIGSTOP)
        try:
            ends = time.monotonic() + 2 * self.service.lease
            until(lambda: time.monotonic() > ends, "its leases are over")
        finally:
            sleeper.send_signal(signal.SIGCONT)

    def killed_service(self) -> None:
        self.service.kill()
        self.service.start()

    def killed_database(self) -> None:
        private_postgres.stop(self.cluster, "immediate")
        start_database(self.cluster, self.service.clocks["database"], self.monkeypatch)
        until(self.service.is_ready, "the service has its database again")

    def full_store(self) -> None:
        filler = self.service.folder / "pier" / ".0123456789abcdef.tmp"
        with suppress(OSError), filler.open("wb") as file:
            while True:
                file.write(bytes(1024 * 1024))
        try:
            self.says("pier is full")
            self.take(store="pier")
            self.says("No room left")
        finally:
            filler.unlink()

    def read_only_store(self) -> None:
        folder = str(self.service.folder / "pier")
        subprocess.run(["mount", "-o", "remount,ro", folder], check=False, capture_output=True)
        if not os.statvfs(folder).f_flag & os.ST_RDONLY:
            self.faults["read_only_store was not possible just then"] += (
                1  # something is being written there
            )
            return
        try:
            self.take(store="pier")
            self.says("is read-only")
        finally:
            subprocess.run(["mount", "-o", "remount,rw", folder], check=True)

    def store_put_back(self) -> None:
        quay = self.service.folder / "quay"
        older = self.service.folder / "older"
        self._quiet()
        shutil.copytree(quay, older)
        run = self.take(store="quay")
        put = False
        if run is not None:
            self._quiet()
            with self.second.client() as client:
                put = client.run(run).state == "done"
        shutil.rmtree(quay)
        older.rename(quay)
        self.take(store="quay")  # at once: what it relies on is asked for
        if put:
            self.says("went back in time")

    def cut_line(self) -> None:
        self.take(store="depot")
        self.relay.cut()

    def hung_line(self) -> None:
        self.relay.mood = "hung"
        try:
            self.says("did not answer within", "no answer within", "did not open within")
        finally:
            self.relay.mood = "well"
            self.relay.cut()

    def slow_line(self) -> None:
        self.relay.mood = "slow"
        try:
            self.take(store="depot")
        finally:
            self.relay.mood = "well"

    def stopped_by_a_person(self) -> None:
        run = self.take()
        if run is not None:
            with suppress(ProblemError, OutOfReachError), self.second.client() as client:
                client.stop_run(run)

    def _quiet(self) -> None:
        """Until nothing goes on: every run ends, or it is told for whom it waits."""
        until(lambda: self._active() == [], "every run has ended", 1800)

    def _active(self) -> list[str]:
        try:
            with self.second.client() as client:
                return [f"{run.kind} {run.state} {run.step}" for run in client.runs(state="active")]
        except (ProblemError, OutOfReachError):
            return ["nobody answers"]

    def calm_down(self) -> None:
        """Everything is mended; what a wrong clock has dated is confirmed; every store is
        scrubbed.
        """
        for clock in self.service.clocks.values():
            clock.set("+0")
        for service in (self.service, self.second):
            until(service.is_ready, "both services answer")
        self._quiet()
        with self.second.client() as client:
            client.confirm_clocks()
            for store in (*FOLDERS, "depot"):
                until(
                    lambda store=store: client.test_store(store).passed,  # type: ignore[misc]
                    f"{store} is as it should be",
                )
                run = self.second.ended(
                    client.scrub(store).id, 1800
                )  # of hundreds of backups, by faked clocks
                assert run.state == "done", run.reason
        self._quiet()


@pytest.fixture
def chaos(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    install: Callable[..., LinuxServer],
    key_pair: tuple[str, str],
    request: pytest.FixtureRequest,
) -> Iterator[Chaos]:
    if LIBRARY is None or os.geteuid() != 0:
        pytest.skip(
            "SKIPPED: without faketime and root (a file system of its own) nothing of this is"
            " proved"
        )
    seed = random.randrange(2**32)
    log.warning("seed %d", seed)
    count = 40 if request.config.getoption("--chaos") >= MANY else 4
    systems = ["web-9", *(f"ferry-{number:02}" for number in range(1, count))]
    made = {name: install(name) for name in systems}
    for server in made.values():
        server.configure("ticket", files=12)
    with ExitStack() as stack:
        (tmp_path / "far").mkdir()
        place = stack.enter_context(servers.openssh(tmp_path / "far"))
        far = urlsplit(place.url)
        relay = Relay((str(far.hostname), int(far.port or 0)))
        stack.callback(relay.close)
        service, cluster = stack.enter_context(
            machines(tmp_path, monkeypatch, ("service", "second", "database", "worker"))
        )
        service.lease = 4
        service.kill()
        service.start()
        _make_estate(service, made, key_pair[0], place, relay)
        stack.callback(subprocess.run, ["umount", "-l", str(tmp_path / "pier")], check=False)
        second = FakedService(
            service.folder,
            service.database,
            service.host,
            service.port + 1,
            0,
            4,
            service.token,
            clocks=service.clocks,
            machine="second",
        )
        second.start()
        stack.callback(second.stop)
        found = Chaos(
            service,
            second,
            cluster,
            relay,
            place.folder,
            systems,
            made,
            random.Random(seed),
            monkeypatch,
        )
        found.workers = [service.start_faked_worker(slots=2) for _ in range(4 if count > 4 else 2)]
        yield found


def _make_estate(
    service: FakedService,
    made: dict[str, LinuxServer],
    private: str,
    place: servers.Place,
    relay: Relay,
) -> None:
    enrol(service, made["web-9"], private)
    pier = service.folder / "pier"
    for name in ("pier", "quay", "loft"):
        (service.folder / name).mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=160m", "tmpfs", str(pier)], check=True)
    with psycopg.connect(service.database.replace("+psycopg", ""), autocommit=True) as database:
        database.execute(
            "update tokens set until = '2099-01-01'"
        )  # else a year ahead they have ended, as they should
    with service.client() as client:
        for name in ("pier", "quay", "loft"):
            client.add_store(
                NewStore(name=name, address=str(service.folder / name), passphrase=PASSPHRASE)
            )
        client.add_login(
            NewLogin(
                name="depot",
                account=place.credential.account,
                private_key=place.credential.private_key,
            )
        )
        address = place.url.replace(urlsplit(place.url).netloc, f"{relay.host}:{relay.port}")
        client.add_store(
            NewStore(
                name="depot", address=address, login="depot", key=place.key, passphrase=PASSPHRASE
            )
        )
        for name, server in list(made.items())[1:]:
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


@pytest.mark.long
def test_nothing_good_is_lost_and_nothing_stays(
    chaos: Chaos, request: pytest.FixtureRequest
) -> None:
    seconds = float(request.config.getoption("--chaos"))
    faults = [
        chaos.clock_of_the_service,
        chaos.clock_of_the_database,
        chaos.clock_of_the_workers,
        chaos.killed_worker,
        chaos.paused_worker,
        chaos.killed_service,
        chaos.killed_database,
        chaos.full_store,
        chaos.read_only_store,
        chaos.store_put_back,
        chaos.cut_line,
        chaos.slow_line,
        chaos.stopped_by_a_person,
    ]
    if seconds >= MANY or "hung_line" in request.config.getoption("--faults"):
        faults.append(chaos.hung_line)  # it is told after a minute and a half
    wanted = request.config.getoption("--faults")
    faults = [fault for fault in faults if not wanted or fault.__name__ in wanted.split(",")]
    for system in chaos.systems:
        assert chaos.take(system) is not None
    ends = time.monotonic() + seconds
    while time.monotonic() < ends:
        for _ in range(3):
            chaos.take()
        fault = chaos.chance.choice(faults)
        log.warning("%s", fault.__name__)
        fault()
        chaos.faults[fault.__name__] += 1
    chaos.calm_down()
    asyncio.run(judge(chaos))
    log.warning("%s; %d runs", dict(chaos.faults), len(chaos.accepted))


async def judge(chaos: Chaos) -> None:
    """By what lies in the stores, opened with the passphrase alone, beside what was said of it."""
    with psycopg.connect(chaos.service.database.replace("+psycopg", "")) as database:
        copies = database.execute(
            "select s.name, c.backup_id, c.damaged from copies c join stores s on s.id = c.store_id"
        ).fetchall()
        done = {
            row[0]
            for row in database.execute(
                "select backup_id from runs where kind = 'take' and state = 'done'"
            ).fetchall()
        }
        held = {row[0] for row in database.execute("select id from backups").fetchall()}
        going_on = database.execute(
            "select kind, state from runs where state in ('queued', 'running', 'waiting')"
        )
        assert going_on.fetchall() == [], "nothing runs for ever"
        mistakes = database.execute(
            "select reason from runs where reason like '%mistake in Fennox%'"
        ).fetchall()
        assert mistakes == []
    opens: dict[str, set[str]] = {}
    for store in (*FOLDERS, "depot"):
        vault = await opened_store.open_with_passphrase(
            FolderStore(chaos.folder(store)), PASSPHRASE, real_now
        )
        good, bad = await record_lists.list_backups(vault)
        assert bad == [], store
        opens[store] = set()
        for record in good:
            assert await read_back(vault, record.reference.backup), (
                f"{store} {record.reference.backup}"
            )
            opens[store].add(record.reference.backup)
    for store, backup, damaged in copies:
        assert damaged or backup in opens[store], (
            f"{backup} is held in {store}, it is said, and it does not open"
        )
    everywhere = set().union(*opens.values())
    told_lost = {backup for _, backup, damaged in copies if damaged}
    assert done <= held, "no backup that was ever done is forgotten"
    assert done <= everywhere | told_lost, "each opens somewhere, or it is told that it does not"
    assert told_lost - everywhere <= {backup for store, backup, _ in copies if store == "quay"}, (
        "only quay was put back"
    )
