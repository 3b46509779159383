"""Machines that a Keelson host makes of an image: each is a simulated appliance of its own."""

from __future__ import annotations

import base64
import ctypes
import hashlib
import json
import shutil
import signal
import socket
import ssl
import subprocess
import sys
from pathlib import Path
from typing import Any

IMAGES = {"orlop-7": "saltmere.orlop"}
"""What lies on the disk of a machine that is made of it: a module of the demo."""
_LEAST_MEMORY = 2048  # MB
_DIE_WITH_PARENT = 1  # PR_SET_PDEATHSIG of prctl(2)


class Guests:
    """The processes of one host's machines; they end with it. ``folder``: where their disks lie."""

    def __init__(self, folder: Path, clock: Path | None) -> None:
        self.folder, self.clock = folder, clock
        self._running: dict[str, subprocess.Popen[bytes]] = {}

    def switch(self, name: str, machine: dict[str, Any], *, on: bool) -> None:
        """A machine without an image has nothing that could run."""
        if "image" not in machine:
            return
        if not on:
            self._end(name)
            return
        if name in self._running or machine["memory"] < _LEAST_MEMORY:
            return
        words = [str(self.folder / name), "--fresh-address", machine["address"]]
        words += ["--clock", str(self.clock)] if self.clock else []
        nowhere = subprocess.DEVNULL
        self._running[name] = subprocess.Popen(
            [sys.executable, "-m", IMAGES[machine["image"]], *words],
            stdin=nowhere,
            stdout=nowhere,
            stderr=nowhere,
            preexec_fn=_die_with_parent,
        )

    def told(self, name: str, machine: dict[str, Any]) -> dict[str, str]:
        """What its console shows once it is awake."""
        certificate = self.folder / name / "certificate.pem"
        if name not in self._running or not certificate.exists() or free(machine["address"]):
            return {}
        der = ssl.PEM_cert_to_DER_cert(certificate.read_text())
        digest = base64.b64encode(hashlib.sha256(der).digest()).decode().rstrip("=")
        return {"address": machine["address"], "certificate": f"SHA256:{digest}"}

    def remove(self, name: str) -> None:
        self._end(name)
        shutil.rmtree(self.folder / name, ignore_errors=True)

    def _end(self, name: str) -> None:
        process = self._running.pop(name, None)
        if process is not None:
            process.kill()
            process.wait()


def refusal(told: dict[str, Any], stores: set[str], there: bool) -> str:
    """Why no machine is made of this; empty: it is."""
    if there:
        return "there is a machine of that name"
    if told["image"] not in IMAGES:
        return f"there is no image {json.dumps(told['image'])}"
    if told["store"] not in stores:
        return f"there is no store {json.dumps(told['store'])}"
    if not free(told["address"]):
        return f"something answers at {told['address']} already"
    return ""


def free(address: str) -> bool:
    host, _, port = address.rpartition(":")
    with socket.socket() as tried:
        tried.settimeout(1)
        return tried.connect_ex((host, int(port))) != 0


def _die_with_parent() -> None:
    ctypes.CDLL(None).prctl(_DIE_WITH_PARENT, signal.SIGKILL)
