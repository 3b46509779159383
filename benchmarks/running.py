"""A real service in a process of its own, for benchmarks: on its own database, asked over its
interface.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import httpx

HOST, PORT = "127.0.0.1", 8477
USER, PASSWORD, PASSPHRASE = (
    "harbour-admin",
    "four quiet boats at dawn",
    "grey gulls over holm island",
)
FENNOX = Path(sys.executable).parent / "fennox"


class Service:
    """A real one in a process of its own."""

    def __init__(self, folder: Path, database: str) -> None:
        self.folder = folder
        here = {
            name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"
        }
        self.environment = {
            **here,
            "FENNOX_DATABASE": database,
            "FENNOX_STATE": str(folder / "state"),
            "FENNOX_HOST": HOST,
            "FENNOX_PORT": str(PORT),
            "FENNOX_LOG": "json",
            "FENNOX_WEAK_SLOTS": "1",
            "XDG_CONFIG_HOME": str(folder / "config"),
        }
        self.options: list[str] = []
        self.http = httpx.Client(
            base_url=f"http://{HOST}:{PORT}/api/v1", timeout=120, trust_env=False
        )

    def start(self) -> None:
        log = (self.folder / "log").open("ab")
        self.process = subprocess.Popen(
            [FENNOX, "serve", *self.options], env=self.environment, stdout=log, stderr=log
        )
        until = time.monotonic() + 60
        while True:
            try:
                if httpx.get(f"http://{HOST}:{PORT}/readyz", trust_env=False).status_code == 200:
                    return
            except httpx.HTTPError:
                if time.monotonic() > until:
                    sys.exit(f"The service did not start; see {self.folder / 'log'}.")
            time.sleep(0.05)

    def set_up(self, **login: str) -> None:
        """An administrator, the store ``attic`` and the login ``root``, by the interface."""
        lines = [
            json.loads(line)
            for line in (self.folder / "log").read_text().splitlines()
            if line.startswith("{")
        ]
        code = next(line["link"].split("#")[1] for line in lines if "link" in line)
        self.call("POST", "/first-user", {"code": code, "user": USER, "password": PASSWORD})
        self.sign_in()
        (self.folder / "attic").mkdir()
        self.call(
            "POST",
            "/stores",
            {"name": "attic", "address": str(self.folder / "attic"), "passphrase": PASSPHRASE},
        )
        self.call("POST", "/logins", {"name": "root", "account": "root", **login})

    def add_routine(self, name: str, systems: str) -> None:
        self.call(
            "POST",
            "/routines",
            {
                "name": name,
                "systems": systems,
                "when": "every day at 02:40",
                "zone": "Europe/Oslo",
                "store": "attic",
                "spread": 60,
                "ladder": (
                    "everything for 14 days, daily for 60 days, weekly for 26 weeks, always 3"
                ),
            },
        )

    def sign_in(self) -> None:
        signed = self.call("POST", "/session", {"user": USER, "password": PASSWORD, "token": True})
        self.http.headers["authorization"] = f"Bearer {signed['token']}"
        self.environment |= {"FENNOX_URL": f"http://{HOST}:{PORT}", "FENNOX_TOKEN": signed["token"]}

    def call(self, method: str, path: str, body: object = None) -> Any:
        answer = self.http.request(method, path, json=body)
        if answer.status_code >= 400:
            sys.exit(f"{method} {path}: {answer.text}")
        return answer.json() if answer.content else None

    def get(self, path: str) -> None:
        answer = self.http.get(path)
        if answer.status_code != 200:
            sys.exit(f"GET {path}: {answer.text[:500]}")

    def resident(self, which: str = "VmHWM") -> float:
        """Resident memory in MB, by the kernel: its peak, or with ``VmRSS`` what it is now."""
        status = Path(f"/proc/{self.process.pid}/status").read_text()
        return int(status.split(f"{which}:")[1].split()[0]) / 1024

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(30)
