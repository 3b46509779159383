"""Sixty days at Saltmere Ferries, lived through by the real engine: small changes on most days, and
six events.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

import httpx

from saltmere import roles, services
from saltmere.clock import ClockServer
from saltmere.estate import (
    ADMINISTRATOR,
    DEPOT,
    DEPOT_FOLDER,
    HTTPS_PORT,
    LINUX,
    SKERRIES,
    SPARE,
    SSH_PORT,
    Estate,
)
from saltmere.linux import SSH_RESTART
from saltmere.service import Interface, Refused
from saltmere.virtualization import ROUTINE

DAYS = 60
ZONE = ZoneInfo("Europe/Oslo")
HOURS = {"every-night": (2, 40), "skerries": (2, 50)}
WEEKLY = {ROUTINE: (3, 0)}
LATER = {services.ROUTINE: (3, 10)}
DAILY_FROM = 44  # before, a week has one night of backups, and appliances have none
CERTIFICATE_DAY, EMPTIED_DAY, FAILED_DISK_DAY, KEYLESS_DAY, ROTTEN_DAY, OWN_DAY = (
    18,
    44,
    47,
    25,
    50,
    54,
)
APPLIANCES_FROM, EXCEEDED_DAY = 46, 54  # so that one night lies before, and one after


@dataclass
class Story:
    """Tells the history, day by day; ``day`` is the next one to be told."""

    estate: Estate
    clock: ClockServer
    service: Interface
    stores: dict[str, Path]
    passphrase: str
    apart_passphrase: str
    first_day: datetime
    day: int = 0

    def prepare(self) -> None:
        """Stores, logins, systems, routines: what an administrator does on the first day."""
        call = self.service.call
        for name, folder in self.stores.items():
            apart = name == "strongbox"
            call(
                "POST",
                "/stores",
                {
                    "name": name,
                    "address": str(folder),
                    "key_set": "strongbox" if apart else "main",
                    "passphrase": self.apart_passphrase if apart else self.passphrase,
                    "custody": "apart" if apart else "kept",
                },
            )
        keys = {"ferry-root": self.estate.root_key, "installer": self.estate.fresh_key}
        for name, path in keys.items():
            call(
                "POST",
                "/logins",
                {"name": name, "account": "root", "private_key": path.read_text()},
            )
        call(
            "POST",
            "/stores",
            {
                "name": "depot",
                "address": f"sftp://{DEPOT[1]}:{SSH_PORT}{DEPOT_FOLDER}",
                "login": "ferry-root",
                "key": self.estate.linux[DEPOT[0]].host_key,
                "site": "gannet-point",
                "passphrase": self.passphrase,
            },
        )
        call(
            "POST",
            "/logins",
            {
                "name": "skerry-keeper",
                "account": ADMINISTRATOR,
                "password": self.estate.skerry_password,
            },
        )
        call("POST", "/logins", {"name": "skerry-default", "account": "admin", "password": "admin"})
        for name, (address, site, role) in LINUX.items():
            call(
                "POST",
                "/systems",
                {
                    "name": name,
                    "kind": "linux-server",
                    "address": f"{address}:{SSH_PORT}",
                    "login": "ferry-root",
                    "key": self.estate.linux[name].host_key,
                    "site": site,
                    "labels": [role],
                    "settings": {"ssh-restart": SSH_RESTART},
                },
            )
        name, address = SPARE
        call(
            "POST",
            "/systems",
            {
                "name": name,
                "kind": "linux-server",
                "address": f"{address}:{SSH_PORT}",
                "login": "installer",
                "key": self.estate.linux[name].host_key,
                "site": "saltmere-quay",
                "settings": {"ssh-restart": SSH_RESTART},
                "spare": True,
            },
        )
        for name, (address, site, role) in SKERRIES.items():
            call(
                "POST",
                "/systems",
                {
                    "name": name,
                    "kind": "storage-server",
                    "address": f"{address}:{HTTPS_PORT}",
                    "login": "skerry-keeper",
                    "key": self.estate.skerries[name].fingerprint,
                    "site": site,
                    "labels": [role],
                    "settings": {},
                },
            )
        for name, needed in (
            ("gannet-tickets", ["quay-store"]),
            ("northness-watch", ["quay-mail"]),
        ):
            call("PATCH", f"/systems/{name}", {"needs": needed})
        self.estate.virtualization.prepare(call)
        self.estate.services.enrol(call)
        ladder = "everything for 14 days, daily for 45 days, monthly for 7 years, always 3"
        for name, systems, store in (
            ("every-night", "kind=linux-server", "harbour"),
            ("skerries", "kind=storage-server", "lighthouse"),
        ):
            hour, minute = HOURS[name]
            call(
                "POST",
                "/routines",
                {
                    "name": name,
                    "systems": systems,
                    "when": f"every monday at {hour:02}:{minute:02}",
                    "zone": str(ZONE),
                    "store": store,
                    "ladder": ladder,
                    "copy_to": ["depot"] if name == "every-night" else [],
                },
            )

    def tell(self, on_day: Callable[[int], None], trouble: Callable[[str], None]) -> None:
        """Live through the days that are left; ``on_day`` is called after each.

        Whatever a person does to the machines, the stores or the service meanwhile, the days go on:
        ``trouble`` hears what did not come about.
        """
        while self.day < DAYS:
            morning = self.first_day + timedelta(days=self.day)
            if self.day == DAILY_FROM:
                self._as_it_may(self._take_daily, "the routines", trouble)
            if self.day == APPLIANCES_FROM:
                self._as_it_may(
                    partial(self.estate.services.take_weekly, self.service.call),
                    "the appliances' routine",
                    trouble,
                )
            taken = self.day >= DAILY_FROM or morning.weekday() == 0
            if taken:
                self._as_it_may(partial(self._night, morning), "the night", trouble)
            self._at(morning.replace(hour=10))
            self._as_it_may(partial(self._change, self.day), "what people changed", trouble)
            self.day += 1
            on_day(self.day)
        self.clock.set(time.time(), 1)

    def _take_daily(self) -> None:
        """From now on every night: who has looked for a week's work twice asks for it."""
        for name, (hour, minute) in HOURS.items():
            self.service.call(
                "PATCH", f"/routines/{name}", {"when": f"every day at {hour:02}:{minute:02}"}
            )
        self.estate.virtualization.take_weekly(self.service.call)

    def _as_it_may(
        self, happens: Callable[[], None], what: str, trouble: Callable[[str], None]
    ) -> None:
        try:
            happens()
        except (
            Refused,
            httpx.HTTPError,
            TimeoutError,
            RuntimeError,
            OSError,
            LookupError,
            StopIteration,
        ) as error:
            trouble(f"Day {self.day + 1}, {what}: {error or type(error).__name__}")

    def _at(self, moment: datetime) -> None:
        self.clock.set(moment.astimezone(UTC).timestamp(), 1)

    def _night(self, morning: datetime) -> None:
        """Put the clock a moment past the last due time, and wait for the runs of all routines."""
        weekly = WEEKLY if self.day >= DAILY_FROM else {}
        weekly |= LATER if self.day >= APPLIANCES_FROM else {}
        hours = HOURS | (weekly if morning.weekday() == 0 else {})
        due = {
            name: morning.replace(hour=hour, minute=minute)
            for name, (hour, minute) in hours.items()
        }
        self._at(max(due.values()) + timedelta(seconds=20))
        limit = time.monotonic() + 180
        for routine, wanted in due.items():
            while not self._is_queued(routine, wanted):
                if time.monotonic() > limit:
                    raise TimeoutError(f"the routine {routine} was not queued for {wanted}")
                time.sleep(0.1)
        for routine in due:
            self.service.wait_for_routine(routine)

    def _is_queued(self, routine: str, due: datetime) -> bool:
        last = self.service.call("GET", f"/routines/{routine}")["last_due"]
        return last is not None and datetime.fromisoformat(last) >= due

    def _change(self, day: int) -> None:
        """What people did on this day, after the night's backups."""
        chance = random.Random(day)
        now = self.clock.now()
        name = chance.choice(list(LINUX))
        role = LINUX[name][2]
        if chance.random() < 0.7 and not EMPTIED_DAY - 3 <= day <= EMPTIED_DAY + 3:
            roles.working_day(self.estate.linux[name], role, chance, now)
        if chance.random() < 0.2:
            store = chance.choice(list(SKERRIES))
            body = {"quota": 50, "password": f"made-up-{day}"}
            self.estate.skerries[store].request("PUT", f"/api/users/purser-{day:02}", body)
        if day % 9 == 4:
            told = {"segments": {"deck-a": 110, "deck-b": 120, f"deck-{day}": 100 + day}}
            hosts = sorted(self.estate.virtualization.hosts)[:2]
            switch = {**told, "hosts": hosts}
            self.estate.virtualization.manager.request("PUT", "/switches/fleet", switch)
        if day == EXCEEDED_DAY:
            self.estate.services.exceed_licence()
            self.estate.services.forget_to_send()
            self.estate.services.flood()
            self.estate.services.fall_behind()
        if day == CERTIFICATE_DAY:
            roles.renew_certificate(self.estate.linux["quay-web"], datetime.fromtimestamp(now, UTC))
        if day == EMPTIED_DAY:
            self._devices("", now)
        if day == EMPTIED_DAY + 2:
            self._devices("".join(f"buoy-{number:02}\n" for number in range(40)), now)
        if day == KEYLESS_DAY:
            self.service.call("PATCH", "/systems/holm-store", {"settings": {"secret-key": "no"}})
        if day == EMPTIED_DAY - 20:
            self._devices("".join(f"buoy-{number:02}\n" for number in range(40)), now)
        if day == FAILED_DISK_DAY:
            self._replace_disk("gannet-tickets")
        if day == OWN_DAY:  # a failed disk, and then bits that rot, make people think
            self.service.call("PUT", "/own-state", {"store": "depot", "copy_to": ["lighthouse"]})
        if day == ROTTEN_DAY:
            self._rot("harbour")
        if day in (10, 50):
            self._by_hand("quay-mail", "strongbox", f"quarter-{day}", "kept apart from the service")

    def _devices(self, text: str, now: float) -> None:
        self.estate.linux["northness-watch"].write(roles.DEVICES, text, modified=now)

    def _rot(self, store: str) -> None:
        """One bit of one file turns over on the disk, as disks do; the next scrub finds it."""
        pack = max(self.stores[store].rglob("*.fxp"), key=lambda path: path.stat().st_size)
        data = bytearray(pack.read_bytes())
        data[len(data) // 2] ^= 1
        pack.write_bytes(data)

    def _by_hand(self, system: str, store: str, name: str, note: str) -> None:
        run = self.service.call(
            "POST", "/backups", {"system": system, "store": store, "name": name, "note": note}
        )
        done = self.service.wait_for_run(run["id"])
        if done["state"] != "done":
            raise RuntimeError(done["reason"])

    def _replace_disk(self, name: str) -> None:
        """Reinstalled at the same address, and restored: the restore that everybody hopes never to
        need.
        """
        newest = self.service.call("GET", "/backups", system=name, limit="1")["items"][0]
        self.estate.reinstall(name)
        server = self.estate.linux[name]
        wanted = {
            "backup": newest["id"],
            "purpose": "repair",
            "login": "installer",
            "key": server.host_key,
        }
        drafted = self.service.wait_for_run(self.service.call("POST", "/restores", wanted)["id"])
        if drafted["state"] != "done":
            raise RuntimeError(drafted["reason"])
        sheet = drafted["result"]["sheet"]
        run = self.service.call("POST", f"/restores/{sheet}/start")
        done = self.service.wait_for_run(run["id"])
        while done["state"] == "waiting":
            gate = next(
                g
                for g in self.service.call("GET", f"/restores/{sheet}")["sheet"]["gates"]
                if not g["answer"]
            )
            role = LINUX[name][2]
            server.configure_packages(role)
            self.service.call(
                "POST", f"/restores/{sheet}/answer", {"gate": gate["number"], "answer": "done"}
            )
            done = self.service.wait_for_run(run["id"])
        if not done["result"].get("proved"):
            raise RuntimeError(done["reason"])
        self.service.call("POST", f"/restores/{sheet}/accept")
