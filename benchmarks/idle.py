"""What a service costs that has nothing to do: twenty systems, nothing due for hours, nobody asks.

    python benchmarks/idle.py [--seconds 120] [--systems 20] [--simulated]

Printed are the share of one core that the service and its database take, that of a process which
only wakes up once a second, statements a minute (pg_stat_statements), and resident memory. The
promise is under 0.5 % of a core and 150 MB for the service. ``--simulated``: it lives by a
simulated clock that goes as the real one does, as the demo's does.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psycopg
from running import Service

from fennox.catalogue.schema import upgrade
from saltmere.clock import ClockServer

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))
import private_postgres

_SETTLES = 75.0  # seconds: the first look at everything is over
_TICKS = os.sysconf("SC_CLK_TCK")
_WAKES = "import time\nwhile True: time.sleep(1)"

_ENROL = """
insert into systems (id, name, folder, kind, address, login_id, key, site, labels, settings,
       machine, needs,
                     suspended_because, left_open, retired_because, let_go, differs,
                     differs_state, version, created)
select md5(n::text), 'ferry-' || n, 'ferry-' || n, 'linux-server', '127.22.0.1:22',
       (select id from logins limit 1),
       'SHA256:x', '', '[]', '{}', null, '[]', '', '[]', '', false, '', '', 1, now()
from generate_series(1, %s) as n
"""


def seconds_of(pid: int) -> float:
    """Processor seconds of a process and of the threads in it."""
    words = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(words[11]) + int(words[12])) / _TICKS


def children_of(pid: int) -> list[int]:
    return [int(word) for word in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]


def main() -> None:
    words = argparse.ArgumentParser()
    words.add_argument("--seconds", type=float, default=120)
    words.add_argument("--systems", type=int, default=20)
    words.add_argument("--simulated", action="store_true")
    given = words.parse_args()
    with tempfile.TemporaryDirectory(prefix="fennox-idle-") as name:
        folder = Path(name)
        folder.chmod(0o755)  # the database's account must be able to enter
        database = private_postgres.start(folder / "pg")
        address = database.replace("postgresql+psycopg://", "postgresql://", 1)
        try:
            with psycopg.connect(address, autocommit=True) as asked:
                asked.execute("alter system set shared_preload_libraries = 'pg_stat_statements'")
            private_postgres.stop(folder / "pg")
            private_postgres.start(folder / "pg")
            with psycopg.connect(address, autocommit=True) as asked:
                asked.execute("create extension pg_stat_statements")
            upgrade(database)
            measure(folder, database, address, given)
        finally:
            private_postgres.stop(folder / "pg", "immediate")


def measure(folder: Path, database: str, address: str, given: argparse.Namespace) -> None:
    service = Service(folder, database)
    clock = ClockServer(folder / "clock", time.time(), 1) if given.simulated else None
    if clock is not None:
        service.options = ["--simulated-clock", str(folder / "clock")]
    service.start()
    wakes = subprocess.Popen([sys.executable, "-c", _WAKES])
    try:
        service.set_up(password="not asked for here")
        with psycopg.connect(address, autocommit=True) as asked:
            asked.execute(_ENROL, (given.systems,))
            service.add_routine("nightly", "all")
            asked.execute("update routines set decided_until = now() + interval '1 day'")
            service.stop()
            service.start()  # what only its first administrator needed is not part of its nights
            time.sleep(_SETTLES)
            asked.execute("select pg_stat_statements_reset()")
            postmaster = int(
                (folder / "pg" / "data" / "postmaster.pid").read_text().splitlines()[0]
            )
            of_database = [postmaster, *children_of(postmaster)]
            before = (
                seconds_of(service.process.pid),
                sum(map(seconds_of, of_database)),
                seconds_of(wakes.pid),
            )
            time.sleep(given.seconds)
            after = (
                seconds_of(service.process.pid),
                sum(map(seconds_of, of_database)),
                seconds_of(wakes.pid),
            )
            calls = asked.execute("select sum(calls) from pg_stat_statements").fetchone()
            top = asked.execute(
                "select calls, query from pg_stat_statements order by calls desc limit 12"
            ).fetchall()
        own, theirs, least = (end - begin for begin, end in zip(before, after, strict=True))
        now, peak = service.resident("VmRSS"), service.resident()
        print(
            f"service    {100 * own / given.seconds:6.2f} % of a core, {now:.0f} MB, {peak:.0f} at"
            " most"
        )
        print(f"database   {100 * theirs / given.seconds:6.2f} % of a core")
        print(f"statements {float(calls[0] if calls else 0) * 60 / given.seconds:6.0f} a minute")
        print(f"a process that wakes once a second {100 * least / given.seconds:.2f} %")
        for number, query in top:
            print(f"{number * 60 / given.seconds:8.1f} a minute  {' '.join(query.split())[:150]}")
    finally:
        wakes.kill()
        service.stop()
        if clock is not None:
            clock.close()


if __name__ == "__main__":
    main()
