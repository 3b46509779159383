"""Running a simulated appliance as a process of its own, and working on it as its administrator
does.
"""

from __future__ import annotations

import base64
import hashlib
import json
import shutil
import ssl
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import ClassVar, Protocol


class Process(Protocol):
    """A program that runs."""

    def poll(self) -> int | None: ...
    def kill(self) -> None: ...
    def wait(self) -> int: ...


def start_process(module: str, words: Sequence[str]) -> Process:
    """``python -m module``; what it prints goes nowhere."""
    nowhere = subprocess.DEVNULL
    return subprocess.Popen([sys.executable, "-m", module, *words], stdout=nowhere, stderr=nowhere)


@dataclass
class RunningAppliance:
    """One appliance: its folder, where it answers now, and the administrator's login. ``program``:
    its module; ``about``: what it answers first.
    """

    program: ClassVar[str]
    about: ClassVar[str] = "/about"
    folder: Path
    host: str
    port: int
    account: str = "admin"
    password: str = "admin"
    clock: Path | None = None
    _process: Process | None = field(default=None, repr=False)

    @property
    def address(self) -> str:
        return f"{self.host}:{self.port}"

    @property
    def installed(self) -> bool:
        return (self.folder / "certificate.pem").exists()

    @property
    def fingerprint(self) -> str:
        der = ssl.PEM_cert_to_DER_cert((self.folder / "certificate.pem").read_text())
        return "SHA256:" + base64.b64encode(hashlib.sha256(der).digest()).decode().rstrip("=")

    def further(self) -> list[str]:
        """More words for its program."""
        return []

    def words(self) -> list[str]:
        """What its program is run with."""
        words = [str(self.folder), "--fresh-address", self.address]
        words += ["--clock", str(self.clock)] if self.clock else []
        return [*words, *self.further()]

    def launch(self) -> None:
        self._process = start_process(self.program, self.words())

    def wait(self, limit: float = 120) -> None:
        """Until it answers its administrator."""
        until = time.monotonic() + limit
        while True:
            try:
                self.request("GET", self.about)
                return
            except (OSError, urllib.error.URLError):
                if time.monotonic() > until or (
                    self._process is not None and self._process.poll() is not None
                ):
                    raise RuntimeError(f"the appliance at {self.address} does not answer") from None
                time.sleep(0.05)

    def start(self) -> None:
        self.launch()
        self.wait()

    def stop(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None

    def lose(self) -> None:
        """The boot device has failed."""
        self.stop()
        shutil.rmtree(self.folder)

    def request(self, method: str, path: str, body: object = None) -> object:
        data = self.fetch(path, method, body)
        return json.loads(data) if data else None

    def fetch(self, path: str, method: str = "GET", body: object = None) -> bytes:
        """What it answers, as it is. ``body``: bytes as they are, anything else as JSON."""
        context = ssl.create_default_context(cafile=str(self.folder / "certificate.pem"))
        context.check_hostname = False
        login = base64.b64encode(f"{self.account}:{self.password}".encode()).decode()
        request = urllib.request.Request(
            f"https://{self.address}{path}",
            method=method,
            data=body if body is None or isinstance(body, bytes) else json.dumps(body).encode(),
            headers={"authorization": f"Basic {login}", "content-type": "application/json"},
        )
        with urllib.request.urlopen(request, context=context, timeout=10) as answer:  # noqa: S310
            held: bytes = answer.read()
        return held
