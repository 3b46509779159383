"""A large catalogue: how long answers take, how much memory the service needs, how long a ladder
over all takes.

python benchmarks/catalogue.py [--systems 10000] [--backups 100] [--calls 100] [--keep FOLDER]

The catalogue is generated in a private PostgreSQL: ``systems`` with ``backups`` each, a run for
each, three routines; what their ladders would have let go is marked. Then a real service is started
on it and asked as console, command line and scripts ask.
"""

from __future__ import annotations

import argparse
import asyncio
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path

import psycopg
from running import FENNOX, Service

from fennox.catalogue.schema import upgrade
from fennox.service.foundation import key_file
from fennox.service.foundation.clock import real_now
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import open_context
from fennox.service.processes import wiring
from fennox.service.retention import expiry

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))
import private_postgres

_SYSTEMS = """
insert into systems (id, name, folder, kind, address, login_id, key, site, labels, settings,
       machine, needs,
                     suspended_because, left_open, retired_because, let_go, differs,
                     differs_state, version, created)
select md5('system' || s), 'ferry-' || lpad(s::text, 5, '0'), 'ferry-' || s, 'linux-server',
       '10.' || s / 65536 || '.' || s / 256 %% 256 || '.' || s %% 256 || ':22',
       (select id from logins limit 1),
       'SHA256:made-up', 'quay-' || s %% 20,
       jsonb_build_array(
           case when s %% 10 < 6 then 'web' when s %% 10 < 9 then 'office' else 'mail' end
       ), '{}',
       jsonb_build_object('id', md5('machine' || s), 'product', 'debian', 'version', '12', 'name',
       'ferry-' || s),
       '[]', '', '[]', '', false, '', '', 1, now() - interval '1 year'
from generate_series(1, %(systems)s) s
"""
_BACKUPS = """
insert into backups (id, system_id, run_id, routine_id, name, note, purpose, kind, time, sequence,
       digest, parts,
                     documents, size, new_bytes, unchanged, partial, account, machine, census,
                     findings, left_out,
                     certificates, held, held_because, doubtful, doubtful_because, expired)
select md5('backup' || s || ' ' || n), md5('system' || s), md5('run' || s || ' ' || n), null, '',
       '', 'backup',
       'linux-server',
       now() - (%(backups)s - n) * interval '1 day' - interval '3 hours'
           - s * interval '0.1 seconds', n,
       md5('digest' || s || n),
       '[{"name": "settings", "documents": 44, "bytes": 253000}, {"name": "accounts",
       "documents": 5, "bytes": 917}]',
       53, 254000, 13500, n %% 3 = 0, false, 'root',
       jsonb_build_object('id', md5('machine' || s), 'product', 'debian', 'version', '12', 'name',
       'ferry-' || s),
       jsonb_build_object('accounts',
       (select jsonb_agg('account-' || s || '-' || a) from generate_series(1, 20) a),
                          'name servers', '["10.0.0.53"]'::jsonb),
       case when s %% 50 = 0 then %(finding)s else '[]' end::jsonb, '["data below /srv"]', '[]',
       false, '',
       s %% 997 = 0 and n = %(backups)s, '',
       n <= %(backups)s - 60
           and extract(isodow from now() - (%(backups)s - n) * interval '1 day') <> 7
from generate_series(1, %(systems)s) s, generate_series(1, %(backups)s) n
"""
_FINDING = (
    '[{"severity": "warning", "code": "part-left-out", "text": "A part lacks.", "remedy": "Add'
    ' it.", "part": null}]'
)
_RUNS = """
insert into runs (id, kind, state, system_id, store_id, backup_id, "order", result, by, created,
       started, ended,
                  attempt, fence, stop_asked, step, documents, size, reason, remedy, odd)
select run_id, 'take', 'done', system_id, (select id from stores limit 1), id, '{"kind": "take"}',
       '{}', 'routine nightly',
       time, time, time + interval '4 seconds', 1, 1, false, 'Write the record', 53, 254000, '',
       '', ''
from backups
"""
_COPIES = """
insert into copies (backup_id, store_id, since, digest, verified, damaged, let_go)
select id, (select id from stores limit 1), time, digest, now(), '', false from backups
"""
_TENDED = "update stores set scrubbed = now(), swept = now()"  # what is generated lies in no store


_SPREAD = 120.0  # seconds


def fill(database: str, systems: int, backups: int) -> None:
    address = database.replace("postgresql+psycopg://", "postgresql://", 1)
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute("set synchronous_commit = off")
        values = {"systems": systems, "backups": backups, "finding": _FINDING}
        for text in (_SYSTEMS, _BACKUPS, _RUNS, _COPIES, _TENDED):
            connection.execute(text, values if "%(" in text else None)
        connection.execute("vacuum analyze")


def timed(works: Mapping[str, Callable[[], object]], calls: int) -> dict[str, list[float]]:
    """Milliseconds of each call, sorted. All are called in turn, for two minutes at least.

    Once a minute the service looks at everything, which then has its share in each of them, and no
    more.
    """
    times: dict[str, list[float]] = {name: [] for name in works}
    pause = _SPREAD / calls / len(works)
    for _ in range(calls):
        for name, work in works.items():
            begun = time.monotonic()
            work()
            times[name].append((time.monotonic() - begun) * 1000)
            time.sleep(max(0.0, pause - (time.monotonic() - begun)))
    return {name: sorted(taken) for name, taken in times.items()}


async def ladders(folder: Path, database: str) -> tuple[float, float]:
    """Seconds for the ladders over every backup, and MB of memory at most, in this process."""
    settings = Settings(database=database, state=folder / "state")
    context = await open_context(settings, real_now, key_file.load(settings.state), simulated=False)
    wiring.look_for_garbage_seldom()  # as the service does
    begun = time.monotonic()
    await expiry.mark_expired(context)
    seconds = time.monotonic() - begun
    await context.close()
    return seconds, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def measure(folder: Path, systems: int, backups: int, calls: int) -> None:
    database = private_postgres.start(folder / "pg", sync=False)
    try:
        upgrade(database)
        service = Service(folder, database)
        service.start()
        if not (folder / "attic").exists():
            service.set_up(password="made-up-password")
            begun = time.monotonic()
            fill(database, systems, backups)
            print(
                f"{systems} systems, {systems * backups} backups generated in"
                f" {time.monotonic() - begun:.0f} s"
            )
            for label in ("web", "office", "mail"):
                service.add_routine(label, f"label={label}")
        else:
            service.sign_in()
        service.stop()
        service.start()
        time.sleep(75)  # its own duties have come round once: watching, ladders
        print(
            f"memory of the service before it is asked anything: {service.resident():.0f} MB at"
            " most"
        )
        one = f"ferry-{systems // 2:05}"
        pages = {
            "status": "/status",
            "systems": "/systems",
            "systems, filtered": "/systems?q=quay-7",
            "systems, by newest backup": "/systems?sort=newest_good",
            "one system": f"/systems/{one}",
            "backups": "/backups",
            "backups of one": f"/backups?system={one}",
            "runs": "/runs",
            "runs of one": f"/runs?system={one}",
            "concerns": "/concerns",
            "routines": "/routines",
            "stores": "/stores",
        }
        works: dict[str, Callable[[], object]] = {
            name: partial(service.get, path) for name, path in pages.items()
        }
        works["fennox status"] = partial(
            subprocess.run,
            [FENNOX, "status"],
            env=service.environment,
            check=True,
            capture_output=True,
        )
        for work in works.values():
            work()
        for name, times in timed(works, calls).items():
            high = times[min(len(times) - 1, int(len(times) * 0.95))]
            print(
                f"  {name:<28}{statistics.median(times):8.0f} ms {high:8.0f} ms at the 95th"
                " percentile"
            )
        print(f"memory of the service: {service.resident():.0f} MB at most")
        service.stop()
        seconds, most = asyncio.run(ladders(folder, database))
        print(f"ladders over all: {seconds:.1f} s, {most:.0f} MB at most")
    finally:
        private_postgres.stop(folder / "pg", "fast")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--systems", type=int, default=10_000)
    parser.add_argument("--backups", type=int, default=100)
    parser.add_argument("--calls", type=int, default=100)
    parser.add_argument("--keep", type=Path, help="keep the catalogue there, and use it again")
    arguments = parser.parse_args()
    if arguments.keep:
        measure(arguments.keep, arguments.systems, arguments.backups, arguments.calls)
        return
    with tempfile.TemporaryDirectory(prefix="fennox-catalogue-", dir="/var/tmp") as folder:
        Path(folder).chmod(0o711)  # PostgreSQL's own account must be able to enter
        measure(Path(folder), arguments.systems, arguments.backups, arguments.calls)


if __name__ == "__main__":
    main()
