"""Many small systems at their routine, against a plain shell loop of ssh, tar, zstd and age with
eight at a time.

python benchmarks/fleet.py [--systems 1000] [--workers 2] [--slots 6]

Every system has an sshd of its own (in namespaces of its own) and a dozen files of 2 kB beside what
a bare server has; their routine takes all of them at the same moment. ``cold``: the first take of
each; ``unchanged``: the next ones, each of which finds more connections, as every worker keeps its
own. The loop copies the same ``/etc``. ``bare`` is the commands of an unchanged take and nothing
else, in one command line over OpenSSH's own kept connections: what would be left if Fennox itself
took no time. Ratios are of one run. Statements of the database are counted by pg_stat_statements.
"""

from __future__ import annotations

import argparse
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psycopg
from running import FENNOX, Service

from fennox.catalogue.schema import upgrade
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))
import private_postgres

SSH_PORT = 2322

_COMMANDS = (
    "date +%s; find /etc /root/.ssh /usr/local/etc /usr/lib/os-release /usr/lib/systemd/system "
    "/usr/lib/systemd/system-preset /var/lib/dpkg/status -printf '%y %i %s %T@ %C@ %p\\0'; true"
)

_ENROL = """
insert into systems (id, name, folder, kind, address, login_id, key, site, labels, settings,
       machine, needs,
                     suspended_because, left_open, retired_because, let_go, differs,
                     differs_state, version, created)
values (md5(%(name)s), %(name)s, %(name)s, 'linux-server', %(address)s,
       (select id from logins limit 1), %(key)s, '',
        '["fleet"]', jsonb_build_object('ssh-restart', %(restart)s::text), null, '[]', '', '[]',
        '', false, '', '', 1,
        now())
"""
_DUE = """
insert into runs (id, kind, state, system_id, store_id, routine_id, backup_id, "order", result,
       by, created, attempt,
                  fence, stop_asked, step, documents, size, reason, remedy, odd)
select md5(random()::text || id), 'take', 'queued', id, (select id from stores limit 1),
       (select id from routines limit 1), md5(random()::text || id || 'backup'),
       '{"kind": "take"}', '{}', 'routine nightly', now(), 0, 0, false, '', 0, 0, '', '', ''
from systems order by name limit %(count)s
"""


class Fleet:
    """The machines, and a database that counts."""

    def __init__(self, folder: Path, count: int) -> None:
        self.folder = folder
        self.private, self.public = new_key_pair("fleet")
        self.key = folder / "key"
        self.key.write_text(self.private)
        self.key.chmod(0o600)
        places = [
            (f"127.22.{number // 250}.{number % 250 + 1}", f"ferry-{number:04}")
            for number in range(count)
        ]
        self.servers = [
            LinuxServer(folder / "machines" / name, host, SSH_PORT) for host, name in places
        ]

    def put_up(self) -> None:
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(self._put_up, self.servers))

    def _put_up(self, server: LinuxServer) -> None:
        name = server.folder.name
        server.install(name, self.public)
        for number in range(12):
            lines = (f"{name}-{number}-{line} = {os.urandom(12).hex()}\n" for line in range(45))
            server.write(f"/etc/saltmere/{number:02}.conf", "".join(lines))
        server.start()

    def stop(self) -> None:
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(LinuxServer.stop, self.servers))

    def by_hand(self, count: int, recipient: str) -> float:
        """Seconds of the loop over the first ``count``."""
        place = self.folder / "by-hand"
        shutil.rmtree(place, ignore_errors=True)
        place.mkdir()
        hosts = "\n".join(server.host for server in self.servers[:count])
        remote = (
            f"ssh -q -i {self.key} -p {SSH_PORT} -o StrictHostKeyChecking=no -o"
            " UserKnownHostsFile=/dev/null"
        )
        one = (
            f"{remote} root@{{}} tar -c -C / etc | zstd -q -3 | age -r {recipient} -o"
            f" {place}/{{}}.age"
        )
        os.sync()
        begun = time.monotonic()
        subprocess.run(
            ["xargs", "-P", "8", "-I{}", "sh", "-c", one],
            input=hosts,
            text=True,
            check=True,
            stderr=subprocess.DEVNULL,
        )
        seconds = time.monotonic() - begun
        made = sum(1 for file in place.iterdir() if file.stat().st_size > 1000)
        if made != count:
            sys.exit(f"The loop made {made} of {count}.")
        return seconds

    def bare(self, count: int) -> float:
        """Seconds for the commands alone, on the first ``count``."""
        kept = self.folder / "kept"
        kept.mkdir(exist_ok=True)
        hosts = [server.host for server in self.servers[:count]]
        common = ["-q", "-p", str(SSH_PORT), "-o", f"ControlPath={kept}/%h"]
        new = [
            *common,
            "-i",
            str(self.key),
            "-o",
            "StrictHostKeyChecking=no",
            "-o",
            "UserKnownHostsFile=/dev/null",
        ]
        for host in hosts:
            subprocess.run(["ssh", *new, "-M", "-f", "-N", f"root@{host}"], check=True)
        try:
            begun = time.monotonic()
            subprocess.run(
                ["xargs", "-P", "8", "-I{}", "ssh", *common, "root@{}", _COMMANDS],
                input="\n".join(hosts),
                text=True,
                check=True,
                stdout=subprocess.DEVNULL,
            )
            return time.monotonic() - begun
        finally:
            for host in hosts:
                subprocess.run(
                    ["ssh", *common, "-O", "exit", f"root@{host}"], check=False, capture_output=True
                )


class Taker:
    """The service with its workers, and the database behind them."""

    def __init__(self, folder: Path, fleet: Fleet, workers: int, slots: int) -> None:
        self.folder, self.fleet, self.count, self.slots = folder, fleet, workers, slots
        self.workers: list[subprocess.Popen[bytes]] = []
        self.service: Service | None = None

    def start(self) -> None:
        folder = self.folder
        database = private_postgres.start(folder / "pg")
        self.address = database.replace("postgresql+psycopg://", "postgresql://", 1)
        self._ask("alter system set shared_preload_libraries = 'pg_stat_statements'")
        private_postgres.stop(folder / "pg")
        private_postgres.start(folder / "pg")
        self._ask("create extension pg_stat_statements")
        upgrade(database)
        service = self.service = Service(folder, database)
        service.environment |= {"FENNOX_WORKERS": "0", "FENNOX_KEEP_CONNECTIONS": "3600"}
        service.start()
        service.set_up(private_key=self.fleet.private)
        service.add_routine("nightly", "label=fleet")
        for server in self.fleet.servers:
            self._ask(
                _ENROL,
                name=server.folder.name,
                address=f"{server.host}:{SSH_PORT}",
                key=server.host_key,
                restart=SSH_RESTART,
            )
        environment = {**service.environment, "FENNOX_WORKERS": str(self.slots)}
        log = (folder / "workers.log").open("ab")
        for _ in range(self.count):
            self.workers.append(
                subprocess.Popen([FENNOX, "worker", "run"], env=environment, stdout=log, stderr=log)
            )
        while len(service.call("GET", "/workers")["items"]) < self.count:
            time.sleep(0.05)

    def _ask(self, text: str, **values: object) -> list[tuple[object, ...]]:
        with psycopg.connect(self.address, autocommit=True) as connection:
            answer = connection.execute(text, values or None)
            return answer.fetchall() if answer.description else []

    def take(self, count: int) -> tuple[float, float]:
        """Seconds until all of ``count`` are taken, and statements a run."""
        self._ask("select pg_stat_statements_reset()")
        os.sync()
        begun = time.monotonic()
        self._ask(_DUE, count=count)
        self._ask("select pg_notify('fennox_queued', '')")
        while self._ask(
            "select count(*) from runs where state in ('queued', 'running', 'waiting')"
        ) != [(0,)]:
            time.sleep(0.2)
        seconds = time.monotonic() - begun
        [(failed,)] = self._ask("select count(*) from runs where state <> 'done'")
        if failed:
            [reason] = self._ask("select reason from runs where state <> 'done' limit 1")
            sys.exit(f"{failed} takes failed: {reason[0]}")
        [(statements,)] = self._ask(
            "select sum(calls) from pg_stat_statements where query not like '%from runs where"
            " state%'"
        )
        return seconds, float(str(statements)) / count

    def stop(self) -> None:
        for worker in self.workers:
            worker.terminate()
            worker.wait(30)
        if self.service is not None:
            self.service.stop()
        private_postgres.stop(self.folder / "pg")


def measure(folder: Path, counts: list[int], workers: int, slots: int) -> None:
    made = subprocess.run(["age-keygen"], capture_output=True, text=True, check=True)
    recipient = made.stderr.split()[-1]
    begun = time.monotonic()
    fleet = Fleet(folder, max(counts))
    try:
        fleet.put_up()
        print(
            f"{max(counts)} machines after {time.monotonic() - begun:.0f} s; {workers} workers with"
            f" {slots} slots"
        )
        for count in counts:
            place = folder / f"of-{count}"
            place.mkdir()
            place.chmod(0o711)
            loop, bare = fleet.by_hand(count, recipient), fleet.bare(count)
            taker = Taker(place, fleet, workers, slots)
            try:
                taker.start()
                print(
                    f"{count} systems: the loop {loop:.1f} s, {count / loop:.1f} systems a second; "
                    f"bare {bare:.1f} s, {loop / bare:.2f} of the loop's throughput"
                )
                for name in ("cold", *["unchanged"] * 4):
                    seconds, statements = taker.take(count)
                    print(
                        f"  {name:<10}{seconds:7.1f} s  {loop / seconds:5.2f} of the loop's"
                        f" throughput, {1000 * seconds / count:.0f} ms a system, {statements:.0f}"
                        " statements a run",
                        flush=True,
                    )
            finally:
                taker.stop()
    finally:
        signal.signal(
            signal.SIGINT, signal.SIG_IGN
        )  # whoever is impatient now would leave machines behind
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        fleet.stop()


def main() -> None:
    signal.signal(
        signal.SIGTERM, signal.default_int_handler
    )  # it ends as by Ctrl C, and stops what it began
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--systems", type=int, default=1000)
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--slots", type=int, default=6)
    arguments = parser.parse_args()
    for tool in ("zstd", "age", "age-keygen", "ssh", "xargs"):
        if shutil.which(tool) is None:
            sys.exit(f"{tool} is not installed, so there is nothing to compare with.")
    counts = sorted({min(100, arguments.systems), arguments.systems})
    with tempfile.TemporaryDirectory(prefix="fennox-fleet-", dir="/var/tmp") as folder:
        Path(folder).chmod(0o711)  # PostgreSQL's own account must be able to enter
        measure(Path(folder), counts, arguments.workers, arguments.slots)


if __name__ == "__main__":
    main()
