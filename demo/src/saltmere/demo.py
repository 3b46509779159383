"""``make demo``: database, estate, service and sixty days of history, until Ctrl C stops it.

python -m saltmere.demo STATE-FOLDER
"""

from __future__ import annotations

import argparse
import json
import os
import re
import secrets
import signal
import subprocess
import sys
import threading
import time
from datetime import datetime, timedelta
from pathlib import Path
from types import FrameType
from typing import Any

import httpx

from saltmere.clock import ClockServer
from saltmere.estate import Estate, answers, remember
from saltmere.service import Interface
from saltmere.story import DAYS, ZONE, Story
from saltmere.words import WORDS

HOST, PORT = "127.0.0.1", 8420
USER = "harbour-admin"
SITE = "northness"
STORES = ("harbour", "lighthouse", "strongbox")
_POSTGRES = Path(__file__).parents[3] / "scripts/private_postgres.py"


class Demo:
    """Everything the demo starts, so that it can stop everything."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self.memory = folder / "demo.json"
        self.values: dict[str, Any] = (
            json.loads(self.memory.read_text()) if self.memory.exists() else self._invent()
        )
        self.address = f"http://{HOST}:{PORT}"
        self.service: subprocess.Popen[bytes] | None = None
        self.site_worker: subprocess.Popen[bytes] | None = None
        self.second_worker: subprocess.Popen[bytes] | None = None
        self.database_is_ours = False
        self.stores = {name: folder / "stores" / name for name in STORES}

    def _invent(self) -> dict[str, Any]:
        start = datetime.now(ZONE).replace(hour=0, minute=0, second=0, microsecond=0) - timedelta(
            days=DAYS
        )
        values = {
            "password": " ".join(secrets.choice(WORDS) for _ in range(4)),
            "passphrase": " ".join(secrets.choice(WORDS) for _ in range(6)),
            "apart_passphrase": " ".join(secrets.choice(WORDS) for _ in range(6)),
            "first_day": start.isoformat(),
            "day": 0,
            "prepared": False,
        }
        remember(self.memory, values)
        return values

    def start(self) -> None:
        if answers(HOST, PORT):
            sys.exit(
                f"Something already listens at {HOST}:{PORT}. Stop it first; is another demo"
                " running?"
            )
        begun = time.monotonic()
        clock_path = self.folder / "clock"
        self.clock = ClockServer(clock_path, self._first_moment(), 1 if self._told() else 0)
        self.estate = Estate(self.folder / "estate", clock_path)
        taken = self.estate.taken_ports()
        if taken:
            sys.exit(
                f"Something already listens at {', '.join(taken)}. Stop it first; is another demo"
                " running?"
            )
        say("Starting the database and the machines of Saltmere Ferries …")
        database = self._database("start")
        self.database_is_ours = True
        machines = threading.Thread(target=self.estate.start)
        machines.start()
        self._serve(database, clock_path)
        machines.join()
        self.interface = Interface(self.address)
        if not self.values["prepared"]:
            self.interface.first_user(self._setup_code(), USER, self.values["password"])
        self.interface.sign_in(USER, self.values["password"])
        self._story()
        self._serve_site()
        if not self.values["prepared"]:
            for store in self.stores.values():
                store.mkdir(parents=True, exist_ok=True)
            self.story.prepare()
            self._remember(prepared=True)
        self._hints()
        say(f"Ready after {time.monotonic() - begun:.1f} seconds.")
        if not self._told():
            self._history()

    def _told(self) -> bool:
        return int(self.values["day"]) >= DAYS

    def _first_moment(self) -> float:
        first = datetime.fromisoformat(self.values["first_day"])
        return (
            time.time()
            if self._told()
            else (first + timedelta(days=int(self.values["day"]), minutes=1)).timestamp()
        )

    def _remember(self, **changes: object) -> None:
        self.values.update(changes)
        remember(self.memory, self.values)

    def _story(self) -> None:
        self.story = Story(
            self.estate,
            self.clock,
            self.interface,
            self.stores,
            self.values["passphrase"],
            self.values["apart_passphrase"],
            datetime.fromisoformat(self.values["first_day"]).replace(tzinfo=ZONE),
            int(self.values["day"]),
        )

    def _history(self) -> None:
        begun = time.monotonic()
        say(
            f"The engine now takes {DAYS} days of history under a simulated clock; you can look on."
        )

        def told(day: int) -> None:
            self._remember(day=day)
            if sys.stdout.isatty():
                print(f"\r  day {day} of {DAYS} ", end="", flush=True)
            elif day % 20 == 0:
                say(f"  day {day} of {DAYS}")

        self._second_worker()
        self.story.tell(told, lambda said: say(f"\n  {said}"))
        _end(self.second_worker)
        say(
            f"\nThe history is there after {time.monotonic() - begun:.0f} seconds; the clock now"
            " goes as yours does."
        )

    def _database(self, action: str) -> str:
        words = [sys.executable, str(_POSTGRES), action, str(self.folder / "postgres")]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        if done.returncode != 0:
            sys.exit(
                f"The database could not be {action}ed:"
                f" {done.stderr.strip() or done.stdout.strip()}"
            )
        return done.stdout.strip()

    def _serve(self, database: str, clock: Path) -> None:
        self.environment = {
            **os.environ,
            "FENNOX_DATABASE": database,
            "FENNOX_STATE": str(self.folder / "service"),
            "FENNOX_HOST": HOST,
            "FENNOX_PORT": str(PORT),
            "FENNOX_WORKERS": "4",
            "FENNOX_LOG": "json",
        }
        program = Path(sys.executable).parent / "fennox"
        self.log = self.folder / "service.log"
        with self.log.open("wb") as log:
            self.service = subprocess.Popen(
                [program, "serve", "--simulated-clock", str(clock)],
                env=self.environment,
                stdout=log,
                stderr=log,
                start_new_session=True,
            )
        limit = time.monotonic() + 120
        asking = httpx.Client(trust_env=False)
        while True:
            try:
                if asking.get(f"{self.address}/readyz").status_code == 200:
                    return
            except httpx.HTTPError:
                pass  # not yet
            if self.service.poll() is not None or time.monotonic() > limit:
                sys.exit(f"The service did not start; see {self.log}.")
            time.sleep(0.05)

    def _serve_site(self) -> None:
        """The worker at Northness, whose machines the service reaches through it alone."""
        token = self.folder / "northness.txt"
        if not token.exists():
            admitted = self.interface.call("POST", "/sites", {"name": SITE, "anew": True})
            _secret_file(token, admitted["token"])
        program = Path(sys.executable).parent / "fennox"
        words = [
            "worker",
            "run",
            "--site",
            SITE,
            "--service",
            self.address,
            f"--token-file={token}",
            "--drop=127.20.4.60:2022",
        ]
        with (self.folder / "northness.log").open("wb") as log:
            self.site_worker = subprocess.Popen(
                [program, *words], stdout=log, stderr=log, start_new_session=True
            )
        limit = time.monotonic() + 60
        while not any(site["connected"] for site in self.interface.call("GET", "/sites")["items"]):
            if self.site_worker.poll() is not None or time.monotonic() > limit:
                sys.exit(f"The worker at {SITE} did not come; see {self.folder / 'northness.log'}.")
            time.sleep(0.05)

    def _second_worker(self) -> None:
        """Sixty nights at once are more than one process takes in a minute; this one ends with
        them.
        """
        words = ["worker", "run", "--simulated-clock", str(self.folder / "clock")]
        with (self.folder / "second-worker.log").open("wb") as log:
            self.second_worker = subprocess.Popen(
                [Path(sys.executable).parent / "fennox", *words],
                env=self.environment,
                stdout=log,
                stderr=log,
                start_new_session=True,
            )

    def _setup_code(self) -> str:
        found = re.findall(r"/setup#([A-Za-z0-9_-]+)", self.log.read_text())
        return str(found[-1])

    def _hints(self) -> None:
        estate, fresh = self.estate, self.estate.linux["fresh-linux"]
        web = estate.linux["web-9"]
        scratch = self.folder / "yours"
        (scratch / "attic").mkdir(parents=True, exist_ok=True)
        _secret_file(scratch / "password.txt", self.values["password"])
        _secret_file(scratch / "passphrase.txt", self.values["passphrase"])
        _secret_file(scratch / "strongbox.txt", self.values["apart_passphrase"])
        binaries = Path(sys.executable).parent
        print(
            f"""
Saltmere Ferries looks after its systems at

    {self.address}     user {USER}     password  {self.values["password"]}

In another terminal:

    export PATH="{binaries}:$PATH"
    cd {scratch}
    fennox sign-in {self.address} --user {USER} --password-file password.txt
    fennox status
    fennox store add attic {scratch}/attic --passphrase-file passphrase.txt
    fennox store test attic
    fennox login add quay-root --account root --key {estate.root_key}
    fennox login add fresh-root --account root --key {estate.fresh_key}
    fennox system add web-9 linux-server {web.host}:{web.port} --login quay-root \\
        --setting 'ssh-restart=kill -HUP 1' --accept-key {web.host_key}
    fennox backup take web-9 --store attic --name first --note "before anything else"
    fennox routine add nightly --systems name=web-9 --when "every day at 02:40" \\
        --zone Europe/Oslo --store attic \\
        --ladder "everything for 14 days, daily for 60 days, always 3"
    fennox routine preview nightly
    fennox restore draft first --practise --onto spare-1
    fennox restore draft first --replace --at {fresh.host}:{fresh.port} --login fresh-root \\
        --accept-key {fresh.host_key}

The passphrase of the stores harbour and lighthouse is in passphrase.txt,
that of strongbox in strongbox.txt.
The restore will ask for packages on the fresh machine; this installs them there:

    python -m saltmere.install {fresh.folder} cron nginx-light saltmere-booking

Ctrl C stops everything; `make demo` goes on with what is there, `make demo-reset` begins again.
""",
            flush=True,
        )

    def stop(self) -> None:
        if self.database_is_ours:
            say("\nStopping …")
        for process in (self.second_worker, self.site_worker, self.service):
            _end(process)
        if hasattr(self, "estate"):
            self.estate.stop()
        if self.database_is_ours:
            self._database("stop")
        if hasattr(self, "clock"):
            self.clock.close()


def _end(process: subprocess.Popen[bytes] | None) -> None:
    if process is not None and process.poll() is None:
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(10)
        except subprocess.TimeoutExpired:
            process.kill()


def _secret_file(path: Path, text: str) -> None:
    path.touch(0o600)
    path.write_text(text + "\n")


def say(text: str) -> None:
    print(text, flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("folder", type=Path)
    parser.add_argument(
        "--until-ready", action="store_true", help="stop again once the history is there"
    )
    arguments = parser.parse_args()
    demo = Demo(arguments.folder.resolve())

    def interrupt(_signal: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, interrupt)
    signal.signal(signal.SIGINT, interrupt)
    try:
        demo.start()
        while not arguments.until_ready:
            time.sleep(3600)
    except KeyboardInterrupt:
        pass
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        demo.stop()


if __name__ == "__main__":
    main()
