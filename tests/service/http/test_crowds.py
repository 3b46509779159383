"""Crowds: many sign in or follow at one time, and everybody else is answered.

How quickly is held only with ``--crowds`` (`make soak`), on a machine that does nothing else
meanwhile.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path
from statistics import quantiles
from typing import Any

import httpx
import pytest

from fennox.wire.backups import NewTake
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import PASSWORD, Service, came_to, until

ELSEWHERE = "127.0.0.77"  # from where the others call
ROOT = Path(__file__).parents[3]


def crowd(service: Service, what: str, count: int, *given: str) -> tuple[Any, float]:
    """What came of a crowd, and the 95th percentile of the seconds that somebody else waited for
    answers meanwhile.
    """
    words = [sys.executable, "-m", "tests.service.crowd", what, service.address, str(count), *given]
    took = []
    known = {"authorization": f"Bearer {service.token}"}
    transport = httpx.HTTPTransport(local_address=ELSEWHERE)
    with (
        httpx.Client(transport=transport, headers=known, timeout=60) as other,
        subprocess.Popen(words, cwd=ROOT, stdout=subprocess.PIPE, text=True) as running,
    ):
        while running.poll() is None:
            begun = time.monotonic()
            assert other.get(f"{service.address}/api/v1/systems").status_code == 200
            took.append(time.monotonic() - begun)
        assert running.stdout is not None
        return json.loads(running.stdout.read()), quantiles(took, n=20)[-1] if len(
            took
        ) > 1 else took[0]


@pytest.fixture
def share(request: pytest.FixtureRequest) -> int:
    """A crowd is so many times smaller than it may be."""
    return 1 if request.config.getoption("--crowds") else 8


@pytest.mark.real_hashes
@pytest.mark.parametrize("password", [PASSWORD, "made up"])
@pytest.mark.long
def test_three_hundred_sign_ins_at_a_time_hold_up_nobody_else(
    service: Service, password: str, longest: float, share: int
) -> None:
    before = service.resident()
    codes, p95 = crowd(service, "sign-in", 300 // share, password)
    assert len(codes) == 300 // share
    assert {code for code in codes if isinstance(code, int)} <= {200, 401, 429, 503}
    assert p95 < longest
    until(lambda: service.resident() < before + 50, "memory is given back")
    assert "A mistake in Fennox" not in service.log


@pytest.mark.long
def test_four_hundred_streams_hold_up_nobody_else(
    service: Service, server: LinuxServer, key_pair: tuple[str, str], longest: float, share: int
) -> None:
    enrol(service, server, key_pair[0], custody="apart")
    with service.client() as client:
        backup = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
        run = client.verify(backup).id
        until(lambda: client.run(run).wants_passphrase, "it waits for somebody")
    before = service.resident()
    told, p95 = crowd(service, "follow", 400 // share, run, service.token)
    assert told > 50 // share or longest > 1, "they are served"
    assert p95 < longest
    until(lambda: service.resident() < before + 50, "memory is given back")
    with service.client() as client:
        client.stop_run(run)
    assert "A mistake in Fennox" not in service.log
