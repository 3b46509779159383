"""Fennox's own programs, and the demo's appliances, as processes, started by forking one that has
already imported everything.

Importing is most of what a short command costs. A forked program runs the same ``main`` with its
own arguments, environment, folder and files, and can be killed as any other. It dies with whoever
started it.
"""

from __future__ import annotations

import ctypes
import gc
import importlib
import multiprocessing
import multiprocessing.forkserver
import os
import pkgutil
import runpy
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, partial
from multiprocessing.context import ForkServerProcess
from pathlib import Path
from tempfile import TemporaryDirectory

_PACKAGES = ("fennox.cli", "fennox.service", "fennox.stores", "fennox.links")
_APPLIANCES = ("saltmere.orlop.running", "saltmere.keelson.running", "saltmere.skerry_state")
_SET_PARENT_DEATH_SIGNAL = 1  # prctl(2)

_Files = tuple[Path, Path, Path]  # for standard input, output and errors

_context = multiprocessing.get_context("forkserver")


@cache
def _modules() -> list[str]:
    """What a program may import."""
    found = [__name__, *_PACKAGES]
    for package in _PACKAGES:
        folder = importlib.import_module(package).__path__
        found += [
            module.name
            for module in pkgutil.walk_packages(folder, f"{package}.")
            if not module.ispkg
        ]
    return [*found, *_APPLIANCES, "tests.forked_beside", "tests.seasoned", "tests.warm"]


def seldom_collect() -> None:
    """No test leaves much behind, and searching for it was a thirtieth of what all of them cost."""
    gc.set_threshold(20_000, 20, 20)


@dataclass
class Program:
    """A running ``fennox``, to be asked and ended as a process is."""

    process: ForkServerProcess

    @property
    def pid(self) -> int:
        assert self.process.pid is not None
        return self.process.pid

    def poll(self) -> int | None:
        return self.process.exitcode

    def wait(self, limit: float | None = None) -> int:
        self.process.join(limit)
        if self.process.exitcode is None:
            raise subprocess.TimeoutExpired("fennox", limit or 0)
        return self.process.exitcode

    def send_signal(self, number: int) -> None:
        os.kill(self.pid, number)

    def kill(self) -> None:
        self.process.kill()


def start(
    words: Sequence[str], environment: Mapping[str, str], folder: Path, *, said: Path, wrong: Path
) -> Program:
    """Start ``fennox`` with its output appended to ``said`` and its errors to ``wrong``."""
    return _start(_fennox, words, environment, folder, (Path("/dev/null"), said, wrong))


def start_module(module: str, words: Sequence[str]) -> Program:
    """Start ``python -m module`` of the demo; what it prints goes nowhere."""
    nowhere = Path("/dev/null")
    files = (nowhere, nowhere, nowhere)
    return _start(partial(_module, module), words, os.environ, Path.cwd(), files)


def run(
    words: Sequence[str],
    environment: Mapping[str, str],
    folder: Path,
    *,
    given: str = "",
    limit: float = 300,
) -> subprocess.CompletedProcess[str]:
    """Run ``fennox`` to its end."""
    with TemporaryDirectory(prefix="fennox-program-") as place:
        stdin, said, wrong = (Path(place) / name for name in ("given", "said", "wrong"))
        stdin.write_text(given)
        program = _start(_fennox, words, environment, folder, (stdin, said, wrong))
        try:
            code = program.wait(limit)
        finally:
            program.kill()
        return subprocess.CompletedProcess(
            ["fennox", *words], code, said.read_text(), wrong.read_text()
        )


def begin() -> int:
    """Begin the process that all are forked from, if it has not begun; its number."""
    _context.set_forkserver_preload(_modules())
    server = multiprocessing.forkserver._forkserver
    server.ensure_running()
    return int(server._forkserver_pid)  # type: ignore[attr-defined]


def _start(
    main: Callable[[], None],
    words: Sequence[str],
    environment: Mapping[str, str],
    folder: Path,
    files: _Files,
) -> Program:
    begin()
    process = _context.Process(
        target=_run, args=(main, list(words), dict(environment), folder, files), daemon=True
    )
    process.start()
    return Program(process)


def _run(
    main: Callable[[], None],
    words: list[str],
    environment: dict[str, str],
    folder: Path,
    files: _Files,
) -> None:
    ctypes.CDLL(None, use_errno=True).prctl(_SET_PARENT_DEATH_SIGNAL, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    os.chdir(folder)
    for number, (file, flags) in enumerate(
        zip(files, (os.O_RDONLY, *[os.O_WRONLY | os.O_CREAT | os.O_APPEND] * 2), strict=True)
    ):
        opened = os.open(file, flags, 0o600)
        os.dup2(opened, number)
        os.close(opened)
    sys.stdin = os.fdopen(0, "r", encoding="utf-8", closefd=False)
    sys.stdout = os.fdopen(1, "w", encoding="utf-8", closefd=False)
    sys.stderr = os.fdopen(
        2, "w", encoding="utf-8", errors="backslashreplace", buffering=1, closefd=False
    )
    sys.argv = ["fennox", *words]
    main()


def _fennox() -> None:
    from fennox.cli.main import run as fennox
    from tests import forked_beside, warm

    forked_beside.fork_beside()
    if warm.REAL_HASHES not in os.environ:
        warm.cheapen_passwords()
    fennox()


def _module(name: str) -> None:
    runpy.run_module(name, run_name="__main__", alter_sys=True)
