"""Expressions and documents made to take for ever, from people and machines: the service answers everybody else."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from statistics import quantiles

import httpx
import pytest

from fennox.core.compare.looking import Question
from fennox.core.errors import BadInput
from fennox.core.format.manifest import Document
from fennox.core.kinds.loading import load
from fennox.engine.evaluating import Evaluators
from saltmere.linux import LinuxServer
from tests.engine.keeper import shipped_text
from tests.service.conftest import enrol
from tests.service.running import Service

NEVER = [
    "RRULE:FREQ=DAILY;INTERVAL=0",
    "DTSTART:00010101T000000\nRRULE:FREQ=HOURLY",
    "RRULE:FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=DAILY;COUNT=9999;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=HOURLY;COUNT=1",
    "RRULE:FREQ=DAILY;COUNT=1000000000",
    "RRULE:FREQ=DAILY;INTERVAL=99999999",
    "RRULE:FREQ=DAILY;INTERVAL=-1",
    "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30",
    "RRULE:FREQ=YEARLY;BYWEEKNO=53;BYDAY=MO;BYSETPOS=7",
    "RRULE:FREQ=YEARLY;BYYEARDAY=366;BYMONTH=1",
    "RRULE:FREQ=DAILY;BYHOUR=" + ",".join(map(str, range(24))) + ";BYMINUTE=" + ",".join(map(str, range(60))),
    "RRULE:FREQ=SECONDLY",
    "RRULE:FREQ=HOURLY;BYDAY=MO;BYMONTH=2;BYMONTHDAY=31",
    "0 0 30 2 *",
    "0 0 31 2,4,6,9,11 *",
]
PATHS = ["$..*..*..*..*", "$..*..*..*..*..*", "$..[?(@..*)]..*..*", "$" + "..*" * 60, "$" + "[*]" * 3000]


def nested(width: int, depth: int) -> object:
    return [nested(width, depth - 1) for _ in range(width)] if depth else 1


@pytest.fixture
async def evaluators() -> AsyncIterator[Evaluators]:
    made = Evaluators(limit=2)
    yield made
    await made.close()


@pytest.mark.parametrize("path", PATHS)
async def test_a_json_path_that_takes_for_ever_is_given_up(evaluators: Evaluators, path: str) -> None:
    kind = load(shipped_text("linux-server"), shipped_text)
    content = json.dumps(nested(6, 5)).encode()
    begun = time.monotonic()
    try:
        await evaluators.values(kind, Question("/etc/ferry.json", jsonpath=path), content, b"s" * 16)
    except BadInput as error:
        assert "takes more than 2 seconds" in error.what  # noqa: PT017 - a quick answer is right as well
    assert time.monotonic() - begun < 60, "it is given up"
    found = await evaluators.values(kind, Question("/etc/ferry.json", jsonpath="$[0][0][0]"), content, b"s" * 16)
    assert found[0] == [[[1] * 6] * 6], "the next question is answered by another process"


async def test_a_bomb_of_a_document_costs_a_process_and_not_the_service(evaluators: Evaluators, longest: float) -> None:
    """Nine lists of nine references to the one before, as YAML has them: 387,420,489 values in 300 bytes."""
    kind = load(shipped_text("linux-server"), shipped_text)
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x]"]
    lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]" for n in range(1, 9)]
    bomb = "\n".join(lines).encode()
    path = "/etc/netplan/01-ferry.yaml"
    before, after = [
        Document(path=path, type="file", mode=0o644, size=len(bomb), digest=digest * 32, chunks=[])
        for digest in ("ab", "cd")
    ]
    ticks = asyncio.create_task(longest_stall())
    change = await evaluators.changed(kind, "settings", before, after, (bomb, bomb + b"\nb: 1\n"), b"s" * 16)
    assert change is not None, "that it changed is known"
    ticks.cancel()
    assert await ticks < longest, "the loop goes on"


async def longest_stall() -> float:
    """Seconds that the loop was held by something else."""
    longest = 0.0
    try:
        while True:
            begun = time.monotonic()
            await asyncio.sleep(0.01)
            longest = max(longest, time.monotonic() - begun - 0.01)
    except asyncio.CancelledError:
        return longest


def test_no_recurrence_rule_of_a_reader_holds_up_anybody_else(
    service: Service, server: LinuxServer, key_pair: tuple[str, str], longest: float
) -> None:
    """A reader stopped the service with one of them."""
    enrol(service, server, key_pair[0])
    reader = service.another("night-watch", "reader")
    token = reader.http.headers["authorization"]
    reader.http.close()

    def preview(when: str) -> int:
        wanted = {"name": "x", "systems": "all", "when": when, "zone": "UTC", "store": "attic", "ladder": "always 3"}
        return httpx.post(f"{service.address}/api/v1/routines/preview", json=wanted, timeout=120, trust_env=False,
                          headers={"authorization": token}).status_code  # fmt: skip

    took: list[float] = []
    with ThreadPoolExecutor(8) as pool:
        waiting = [pool.submit(preview, when) for when in NEVER]
        with httpx.Client(trust_env=False, timeout=60, headers={"authorization": f"Bearer {service.token}"}) as other:
            while not all(one.done() for one in waiting):
                begun = time.monotonic()
                assert other.get(f"{service.address}/api/v1/systems").status_code == 200
                took.append(time.monotonic() - begun)
    assert {one.result() for one in waiting} == {422}
    assert quantiles(took, n=20)[-1] < longest, "it had been for ever"
    assert preview("RRULE:FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=29") == 200
    assert preview("every day at 02:40") == 200
    assert "A mistake in Fennox" not in service.log
