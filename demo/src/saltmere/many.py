"""Many appliances in one process: each would take as much memory as all of them.

python -m saltmere.many < LINES, where each line is a list of words in JSON: an appliance's module,
and what it is run with.
"""

from __future__ import annotations

import asyncio
import importlib
import json
import subprocess
import sys
from collections.abc import Iterable

from saltmere.appliance import RunningAppliance


async def _serve_all(lines: list[list[str]]) -> None:
    modules = [(importlib.import_module(_entry(module)), words) for module, *words in lines]
    await asyncio.gather(*(module.serve(words) for module, words in modules))


def _entry(module: str) -> str:
    """Of a package, what ``python -m`` would run."""
    found = importlib.import_module(module)
    return f"{module}.__main__" if hasattr(found, "__path__") else module


def start_together(appliances: Iterable[RunningAppliance]) -> subprocess.Popen[bytes]:
    """They run until this process ends; stopping one of them by itself does nothing."""
    lines = [json.dumps([one.program, *one.words()]) for one in appliances]
    nowhere = subprocess.DEVNULL
    process = subprocess.Popen(
        [sys.executable, "-m", "saltmere.many"],
        stdin=subprocess.PIPE,
        stdout=nowhere,
        stderr=nowhere,
    )
    assert process.stdin is not None
    with process.stdin as stdin:
        stdin.write("".join(f"{line}\n" for line in lines).encode())
    return process


if __name__ == "__main__":
    asyncio.run(_serve_all([json.loads(line) for line in sys.stdin]))
